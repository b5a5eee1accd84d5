export { EncoderCard } from "./components/EncoderCard";
export { FeedForm } from "./components/FeedForm";
export { FindPanel } from "./components/FindPanel";
export { IngestForm } from "./components/IngestForm";
export { PatternFill } from "./components/PatternFill";
export { SurveyPanel } from "./components/SurveyPanel";
export { feedsKey, feedsQuery, patternsKey, patternsQuery, publishedRefetch, surveyQuery } from "./queries";
