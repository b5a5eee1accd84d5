export { TuneButton } from "./TuneButton";
export { TuneDialog } from "./TuneDialog";
