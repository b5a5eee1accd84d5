import type { components } from "./schema";

type Schemas = components["schemas"];

export type Relay = Schemas["Relay"];
export type FeedState = Schemas["FeedState"];
export type PushState = Schemas["PushState"];
export type CauseFacts = Schemas["CauseFacts"];
export type RelayEvent = Schemas["RelayEvent"];
export type SignedIn = Schemas["SignedIn"];
export type PreviewEvent = Schemas["PreviewEvent"];
export type Problem = Schemas["Problem"];
