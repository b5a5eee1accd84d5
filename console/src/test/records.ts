import type { Destination, Feed, Uplink, UplinkBudget } from "../api/types";

/** A destination of the railway's. */
export function destination(name: string, change: Partial<Destination> = {}): Destination {
  return {
    name,
    server: "rtmp://ingest.example.net/live",
    backup_server: null,
    return_after_s: 120,
    protocol: "rtmp",
    encrypted: false,
    platform: "Bramble TV",
    watch_page: null,
    key: {
      ending: "y-9Z",
      length: 21,
      set_at: "2026-11-01T00:00:00Z",
      age_days: 25,
      rolls: 2,
      kind: "reusable",
      expires_at: null,
      used_at: null,
    },
    passphrase: null,
    has_authority: false,
    uplinks: [],
    relays: [],
    ...change,
  };
}

export function keptFeed(name: string, change: Partial<Feed> = {}): Feed {
  return {
    name,
    url: "rtsp://192.0.2.7/main",
    sub_url: null,
    transport: "auto",
    user: "rail",
    has_password: true,
    pin: null,
    site: null,
    warnings: [],
    state: "off",
    ...change,
  };
}

export function uplink(name: string, change: Partial<Uplink> = {}): Uplink {
  return {
    name,
    site: null,
    up_kbps: 40_000,
    headroom_percent: 25,
    allowance_bytes: null,
    backup: false,
    source: null,
    interface: null,
    sent_bytes: 0,
    ...change,
  };
}

export function uplinkBudget(name: string, change: Partial<UplinkBudget> = {}): UplinkBudget {
  return {
    uplink: uplink(name),
    loads: [{ what: "Summit to Bramble TV", kbps: 2_080 }],
    sum_kbps: 2_080,
    usable_kbps: 30_000,
    verdict: "fits",
    projected_bytes: 1_000_000_000,
    projected_percent: null,
    month_verdict: null,
    ...change,
  };
}
