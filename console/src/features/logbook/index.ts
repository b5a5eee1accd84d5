export { LogLines } from "./components/LogLines";
export { appendLogEntry, logbookQuery, reportKey } from "./queries";
