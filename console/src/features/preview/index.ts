export { LivePicture } from "./LivePicture";
export { PreviewDialog } from "./PreviewDialog";
