export { RelayPage } from "./RelayPage";
export { HoldingPicture } from "./components/HoldingPicture";
export { useEditRelay, usePreflight } from "./queries";
