export { LinesPage } from "./LinesPage";
