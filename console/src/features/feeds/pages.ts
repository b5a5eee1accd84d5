export { FeedPage } from "./FeedPage";
export { FeedsPage } from "./FeedsPage";
export { FindPage } from "./FindPage";
export { PatternsPage } from "./PatternsPage";
