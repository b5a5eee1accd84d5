export { PreviewDialog } from "./PreviewDialog";
