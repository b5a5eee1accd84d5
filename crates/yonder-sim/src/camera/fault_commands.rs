//! Commands that inject faults into a running stand-in camera.

use std::sync::Arc;
use std::time::Duration;

use super::faults::{CameraFaults, Marker, Oddities, SignIn, Transports};
use crate::media::LoopMedia;

/// Commands of a camera, with their meaning.
pub const CAMERA_COMMANDS: [(&str, &str); 20] = [
    ("freeze | thaw", "send nothing and answer nothing, with connections open | resume"),
    ("lose PERCENT", "lose so many datagrams"),
    ("shuffle PERCENT", "deliver so many datagrams after the next one"),
    ("repeat PERCENT", "deliver so many datagrams twice"),
    ("drift PPM", "let the clock run fast by parts per million (for sessions to come)"),
    ("jump SECONDS", "let the clock jump"),
    ("renumber", "restart SSRCs and sequence numbers"),
    ("resize | own-size", "show another picture of another size | the stream's own"),
    ("keyframes on|off", "send keyframes or leave them out"),
    ("late MS", "send keyframes so many milliseconds after their time"),
    ("ntp zero|true", "send sender reports without an NTP time | with one"),
    ("garbage", "send bytes that make no sense"),
    ("goodbye", "say goodbye by RTCP"),
    ("viewers NUMBER|any", "serve at most so many viewers"),
    ("refuse STATUS [WORDS] | accept", "answer DESCRIBE with a status | with the stream"),
    ("redirect URL | stay", "send viewers to another address | serve them"),
    ("sign-in digest|qop|sha256|basic|all", "ask for the password in this way"),
    ("transport both|tcp|udp", "serve these transports"),
    ("marker right|missing|slices", "where the marker bit is set"),
    (
        "deviate NAME,…|none",
        "deviate from the standards: reserved-types, no-end-bits, start-codes, stray-bytes, empty-padding, refused-keep-alives, odd-headers, silent-options, no-range, payload-type, mtap",
    ),
];

impl CameraFaults {
    /// Applies a command. `other` is the media that `resize` switches to.
    ///
    /// # Errors
    /// Message about the part that cannot be parsed.
    pub fn apply_command(&mut self, line: &str, other: &Arc<LoopMedia>) -> Result<(), String> {
        let mut words = line.split_whitespace();
        let (word, value) = (words.next().unwrap_or_default(), words.next());
        let wanted = |what: &str| format!("{word} wants {what}");
        match (word, value) {
            ("freeze", None) => self.frozen = true,
            ("thaw", None) => self.frozen = false,
            ("lose", Some(value)) => self.impairment.loss_permille = per_mille(value)?,
            ("shuffle", Some(value)) => self.impairment.reorder_permille = per_mille(value)?,
            ("repeat", Some(value)) => self.impairment.duplicate_permille = per_mille(value)?,
            ("drift", Some(value)) => {
                let ppm = value.parse().ok().filter(|ppm: &i32| ppm.abs() <= 100_000);
                self.drift_ppm = ppm.ok_or_else(|| wanted("parts per million, up to 100000"))?;
            }
            ("jump", Some(value)) => {
                let seconds: i64 = value.parse().map_err(|_| wanted("seconds"))?;
                self.time_jump = (self.time_jump.0 + 1, seconds.clamp(-20_000, 20_000) * 90_000);
            }
            ("renumber", None) => self.new_source += 1,
            ("resize", None) => self.shows = Some(Arc::clone(other)),
            ("own-size", None) => self.shows = None,
            ("keyframes", Some("on")) => self.no_keyframes = false,
            ("keyframes", Some("off")) => self.no_keyframes = true,
            ("late", Some(value)) => {
                let ms = value.parse().ok().filter(|ms: &u64| *ms <= 10_000);
                self.keyframe_delay =
                    ms.map(Duration::from_millis).ok_or_else(|| wanted("milliseconds, up to 10000"))?;
            }
            ("ntp", Some("zero")) => self.ntp_zero = true,
            ("ntp", Some("true")) => self.ntp_zero = false,
            ("garbage", None) => self.garbage += 1,
            ("goodbye", None) => self.goodbye += 1,
            ("viewers", Some("any")) => self.max_viewers = None,
            ("viewers", Some(value)) => {
                self.max_viewers = Some(value.parse().map_err(|_| wanted("a number, or any"))?);
            }
            ("refuse", Some(value)) => {
                let status = value.parse().ok().filter(|status| (300..600).contains(status));
                let said: Vec<&str> = words.collect();
                let said = if said.is_empty() { "No".to_owned() } else { said.join(" ") };
                self.refuses = Some((status.ok_or_else(|| wanted("a status from 300 to 599"))?, said));
            }
            ("accept", None) => self.refuses = None,
            ("redirect", Some(url)) => self.redirects_to = Some(url.to_owned()),
            ("stay", None) => self.redirects_to = None,
            ("sign-in", Some(value)) => {
                self.sign_in =
                    SignIn::parse(value).ok_or_else(|| wanted("digest, qop, sha256, basic or all"))?;
            }
            ("transport", Some(value)) => {
                self.transports = match value {
                    "both" => Transports::Both,
                    "tcp" => Transports::TcpOnly,
                    "udp" => Transports::UdpOnly,
                    _ => return Err(wanted("both, tcp or udp")),
                };
            }
            ("marker", Some(value)) => {
                self.marker = match value {
                    "right" => Marker::Right,
                    "missing" => Marker::Missing,
                    "slices" => Marker::EverySlice,
                    _ => return Err(wanted("right, missing or slices")),
                };
            }
            ("deviate", Some(names)) => {
                self.oddities = Oddities::parse(names).ok_or_else(|| wanted("names that help lists"))?;
            }
            _ => return Err(format!("{:?} is not understood; say help", line.trim())),
        }
        Ok(())
    }
}

impl SignIn {
    /// Parses the name of a scheme.
    fn parse(name: &str) -> Option<Self> {
        Some(match name {
            "digest" => Self::Digest,
            "qop" => Self::DigestQop,
            "sha256" => Self::DigestSha256,
            "basic" => Self::Basic,
            "all" => Self::Everything,
            _ => return None,
        })
    }
}

impl Oddities {
    /// Parses a list of names, or `none`.
    fn parse(names: &str) -> Option<Self> {
        let mut oddities = Self::default();
        for name in names.split(',').filter(|_| names != "none") {
            *oddities.by_name(name)? = true;
        }
        Some(oddities)
    }

    /// Returns the switch of a deviation by its name in commands.
    fn by_name(&mut self, name: &str) -> Option<&mut bool> {
        Some(match name {
            "reserved-types" => &mut self.vendor_units,
            "no-end-bits" => &mut self.no_end_marks,
            "start-codes" => &mut self.start_codes,
            "stray-bytes" => &mut self.stray_bytes,
            "empty-padding" => &mut self.empty_padding,
            "refused-keep-alives" => &mut self.refused_keep_alives,
            "odd-headers" => &mut self.odd_heads,
            "silent-options" => &mut self.silent_options,
            "no-range" => &mut self.no_range,
            "payload-type" => &mut self.other_payload_type,
            "mtap" => &mut self.unreadable,
            _ => return None,
        })
    }
}

pub(crate) fn per_mille(percent: &str) -> Result<u16, String> {
    let percent: f64 =
        percent.trim_end_matches('%').parse().map_err(|_| format!("{percent:?} is no percentage"))?;
    let per_mille = (0_u16..=1_000).find(|per_mille| f64::from(*per_mille) >= percent * 10.0 - 0.5);
    per_mille.filter(|_| percent >= 0.0).ok_or_else(|| "a percentage is from 0 to 100".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tunnel_media;

    #[test]
    fn commands_are_applied() {
        let (mut faults, other) = (CameraFaults::default(), Arc::new(tunnel_media()));
        for line in [
            "freeze",
            "lose 5",
            "shuffle 2.5%",
            "drift -200",
            "jump 60",
            "jump -3",
            "renumber",
            "resize",
            "keyframes off",
            "late 350",
            "ntp zero",
            "viewers 2",
            "refuse 503 Just starting",
            "sign-in sha256",
            "transport udp",
            "marker slices",
        ] {
            assert_eq!(faults.apply_command(line, &other), Ok(()), "{line}");
        }
        assert!(faults.frozen && faults.no_keyframes && faults.shows.is_some() && faults.ntp_zero);
        assert_eq!(faults.keyframe_delay, Duration::from_millis(350));
        assert_eq!(
            (faults.impairment.loss_permille, faults.impairment.reorder_permille, faults.drift_ppm),
            (50, 25, -200)
        );
        assert_eq!((faults.time_jump, faults.max_viewers), ((2, -270_000), Some(2)));
        assert_eq!(faults.refuses, Some((503, "Just starting".to_owned())));
        for line in
            ["thaw", "accept", "viewers any", "own-size", "keyframes on", "late 0", "ntp true", "stay"]
        {
            faults.apply_command(line, &other).unwrap();
        }
        assert!(!faults.frozen && faults.refuses.is_none() && faults.shows.is_none());
    }

    #[test]
    fn invalid_commands_are_refused_and_change_nothing() {
        let (mut faults, other) = (CameraFaults::default(), Arc::new(tunnel_media()));
        for line in [
            "",
            "dance",
            "lose",
            "lose x",
            "lose 101",
            "refuse 200",
            "sign-in by-face",
            "late soon",
            "deviate",
            "deviate mtap,nothing",
            "late 10001",
            "ntp half",
            "viewers few",
            "freeze now",
        ] {
            assert!(faults.apply_command(line, &other).is_err(), "{line}");
        }
        assert!(!faults.frozen && faults.impairment.loss_permille == 0);
        assert_eq!(faults.oddities, Oddities::default());
    }

    #[test]
    fn deviations_of_the_help_text_are_accepted() {
        let (mut faults, other) = (CameraFaults::default(), Arc::new(tunnel_media()));
        let (_, help) = CAMERA_COMMANDS.iter().find(|(word, _)| word.starts_with("deviate")).unwrap();
        let names = help.split_once(": ").unwrap().1.replace(", ", ",");
        faults.apply_command(&format!("deviate {names}"), &other).unwrap();
        let all = format!("{:?}", faults.oddities);
        assert!(!all.contains("false"), "{all}");
        faults.apply_command("deviate none", &other).unwrap();
        assert_eq!(faults.oddities, Oddities::default());
    }
}
