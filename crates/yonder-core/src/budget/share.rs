//! Share of an uplink for the pushes of one relay.

use super::overhead::{media_kbps, on_wire_kbps};
use super::plan::{Push, Uplink};

/// Returns the media bit rate, in kilobits per second, that each push of a relay may have: what the pushes of other relays
/// leave of its uplink, without the headroom, divided evenly. `None` without a described uplink.
#[must_use]
pub fn shares(uplinks: &[Uplink], others: &[Push], own: &[Push]) -> Vec<Option<u32>> {
    let uplink_of = |push: &Push| {
        let bound = push.uplinks.first();
        uplinks.iter().filter(|uplink| uplink.site.is_none()).find(|uplink| match bound {
            Some(name) => uplink.name.eq_ignore_ascii_case(name),
            None => !uplink.backup,
        })
    };
    own.iter()
        .map(|push| {
            let uplink = uplink_of(push)?;
            // A push without a binding may use any uplink.
            let is_on_it = |other: &&Push| {
                other.uplinks.is_empty() || uplink_of(other).is_some_and(|used| used.name == uplink.name)
            };
            let used: u64 = others
                .iter()
                .filter(is_on_it)
                .filter_map(|other| Some(on_wire_kbps(Some(other.protocol), other.media_kbps?)))
                .sum();
            let usable = uplink.up_kbps * (100 - uplink.headroom_percent.min(95)) / 100;
            let count = own.iter().filter(is_on_it).count();
            let share = usable.saturating_sub(used) / u64::try_from(count).unwrap_or(1).max(1);
            u32::try_from(media_kbps(push.protocol, share)).ok()
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use yonder_address::Protocol;

    use crate::budget::Volume;

    use super::*;

    fn uplink(name: &str, up_kbps: u64, backup: bool) -> Uplink {
        Uplink {
            name: name.into(),
            site: None,
            up_kbps,
            headroom_percent: 20,
            allowance: None,
            backup,
            sent: Volume::from_bytes(0),
        }
    }

    fn push(kbps: Option<u64>, uplinks: &[&str]) -> Push {
        Push {
            relay: "Line".into(),
            destination: "Bramble".into(),
            protocol: Protocol::Rtmp,
            media_kbps: kbps,
            uplinks: uplinks.iter().map(|name| (*name).to_owned()).collect(),
        }
    }

    #[test]
    fn rest_of_an_uplink_is_divided_evenly() {
        let uplinks = [uplink("radio", 2_000, true), uplink("fibre", 10_000, false)];
        let others = [push(Some(2_000), &[]), push(Some(1_000), &["radio"])];
        let own = [push(None, &[]), push(None, &["fibre"]), push(None, &["radio"])];
        let shares: Vec<u64> =
            shares(&uplinks, &others, &own).into_iter().map(|share| share.unwrap().into()).collect();
        let wire = |media| on_wire_kbps(Some(Protocol::Rtmp), media);
        let fibre = (8_000 - wire(2_000)) / 2;
        assert!(shares[..2].iter().all(|share| (fibre - 2..=fibre).contains(&wire(*share))), "{shares:?}");
        // 1600 kbit/s are usable, and more than that is in use.
        assert_eq!(shares[2], 0);
    }

    #[test]
    fn undescribed_uplink_has_no_share() {
        assert_eq!(shares(&[], &[], &[push(None, &[])]), [None]);
        assert_eq!(shares(&[uplink("fibre", 10_000, false)], &[], &[push(None, &["radio"])]), [None]);
    }
}
