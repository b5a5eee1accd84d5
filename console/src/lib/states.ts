import type { Schemas } from "../api/types";

export type FeedPhase = Schemas["FeedPhase"];
export type PushPhase = Schemas["PushPhase"];
export type ConditionLevel = Schemas["ConditionLevel"];
export type DesiredState = Schemas["DesiredState"];
export type CheckStatus = Schemas["CheckStatus"];
export type DayLevel = Schemas["DayLevel"];
export type FaultDomain = Schemas["FaultDomain"];
export type DialStepName = Schemas["DialStepName"];

/**
 * Predicates of states, levels and sides. Components ask them and compare no names, so that a new state is a compiler error
 * here and nowhere else.
 */

/** The platform is being sent to. */
export function isSending(state: PushPhase): boolean {
  switch (state) {
    case "live":
    case "holding":
    case "lagging":
      return true;
    case "off":
    case "dialing":
    case "waiting":
    case "blocked":
      return false;
  }
}

/** Video arrives. */
export function isFlowing(state: FeedPhase): boolean {
  return state === "flowing";
}

/** The broadcast runs as wanted. */
export function isLive(state: PushPhase): boolean {
  return state === "live";
}

/** More is to be sent than gets through. */
export function isLagging(state: PushPhase): boolean {
  return state === "lagging";
}

/** A connection is being made. */
export function isDialing(state: FeedPhase | PushPhase): boolean {
  return state === "dialing";
}

/** Media passes. */
export function isUp(state: FeedPhase | PushPhase): boolean {
  return state === "flowing" || state === "live" || state === "holding" || state === "lagging";
}

/** Nothing is wanted. */
export function isOff(state: FeedPhase | PushPhase | DesiredState): boolean {
  return state === "off";
}

/** A person is needed. */
export function isBlocked(state: FeedPhase | PushPhase): boolean {
  return state === "blocked";
}

/** Disconnected until the next attempt. */
export function isWaiting(state: FeedPhase | PushPhase): boolean {
  return state === "waiting";
}

/** A person wants the relay to run with its feed. */
export function isOn(wanted: DesiredState): boolean {
  return wanted === "on";
}

/** A person wants the holding picture. */
export function isHeld(wanted: DesiredState): boolean {
  return wanted === "hold";
}

const LEVELS: readonly ConditionLevel[] = ["off", "good", "holding", "starting", "degraded", "down", "blocked"];

/** Order of levels: the better before the worse, as in the service. */
export function severity(level: ConditionLevel): number {
  return LEVELS.indexOf(level);
}

/** Levels, the worst first. */
export const WORST_FIRST: readonly ConditionLevel[] = [...LEVELS].reverse();

/** Needs attention. */
export function needsAttention(level: ConditionLevel): boolean {
  return severity(level) >= severity("degraded");
}

/** It is on its way, and nothing has failed. */
export function isStarting(level: ConditionLevel): boolean {
  return level === "starting";
}

/** Everything is as wanted. */
export function isGood(level: ConditionLevel): boolean {
  return level === "good";
}

/** A person has put the holding picture on all pushes. */
export function isHolding(level: ConditionLevel): boolean {
  return level === "holding";
}

export function isPass(level: CheckStatus): boolean {
  return level === "pass";
}

export function isFail(level: CheckStatus): boolean {
  return level === "fail";
}
