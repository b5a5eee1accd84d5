export { LogLines } from "./components/LogLines";
export { keepLine, logbookQuery, reportKey } from "./queries";
