export { DestinationForm } from "./components/DestinationForm";
export { Repairs } from "./components/Repairs";
export { RekeyDialog } from "./components/RekeyDialog";
export { destinationsKey, destinationsQuery } from "./queries";
