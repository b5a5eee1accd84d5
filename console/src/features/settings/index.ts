export { alertsKey, peopleKey, receiversKey, tokensKey } from "./queries";
