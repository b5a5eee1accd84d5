export { NewRelayPage } from "./NewRelayPage";
