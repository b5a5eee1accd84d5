export { platformsKey, platformsQuery } from "./queries";
