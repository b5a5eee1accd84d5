export { alertsKey, peopleKey, contactsKey, tokensKey } from "./queries";
