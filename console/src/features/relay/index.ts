export { RelayPage } from "./RelayPage";
export { HoldingPicture } from "./components/HoldingPicture";
export { usePreflight } from "./queries";
