export { UplinkBar } from "./components/UplinkBar";
export { budgetKey, budgetQuery, heaviest, uplinksKey, uplinksQuery } from "./queries";
