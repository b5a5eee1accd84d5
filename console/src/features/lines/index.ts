export { LinesPage } from "./LinesPage";
export { CauseNote } from "./components/CauseNote";
export { Since } from "./components/Since";
export { Switches } from "./components/Switches";
export { Still } from "./components/Still";
export { LEVEL_WORDS, levelOf, wordsOf, notesOf, progressOf, faultDomainText, worstFirst } from "./condition";
export { dayKey, dayQuery, keepRelay, relaysQuery, useSwitch } from "./queries";
export { factsOf } from "./facts";
