export { FeedForm } from "./components/FeedForm";
export { FindPanel } from "./components/FindPanel";
export { PatternFill } from "./components/PatternFill";
export { SurveyPanel } from "./components/SurveyPanel";
export { feedsKey, feedsQuery, patternsKey, patternsQuery, surveyQuery } from "./queries";
