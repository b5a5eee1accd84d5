export { RelayPage } from "./RelayPage";
export { Checks } from "./components/Checks";
export { HoldingPicture } from "./components/HoldingPicture";
export { usePreflight } from "./queries";
