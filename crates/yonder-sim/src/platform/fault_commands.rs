//! Commands that inject faults into a running stand-in platform.

use std::time::Duration;

use crate::camera::per_mille;

use super::faults::{PlatformFaults, Stage};

/// Commands of a platform, with their meaning.
pub const PLATFORM_COMMANDS: [(&str, &str); 21] = [
    ("freeze | thaw", "read nothing, with connections open | resume"),
    ("slow KBIT | fast", "read so many kilobits per second of each publisher | as fast as it comes"),
    ("silent greeting|connect|publish", "say nothing from this step on"),
    ("speak", "answer at every step again"),
    ("reset", "reset all connections"),
    ("flaky SECONDS | steady", "reset each connection after about so long | no more"),
    ("end [WORDS]", "end all broadcasts"),
    ("busy SECONDS", "keep a key in use for so long after a drop"),
    ("refuse-app [WORDS] | accept-app", "refuse every application | take the right one"),
    ("redirect ADDRESS | stay", "refer every publisher to another address | take them here"),
    ("reconnect [ADDRESS]", "ask all publishers to connect again, there"),
    ("announce FOURCC... | announce", "announce these video codecs | none"),
    ("refuse-key [WORDS] | accept-key", "refuse every key ({key} in WORDS repeats it) | take the right one"),
    ("bad-name", "refuse every key with a bare code, until accept-key"),
    ("lines NUMBER|any", "take pictures of at most so many lines"),
    ("kbit NUMBER|any", "take at most so many kilobits per second"),
    ("codec h264|any", "take only this codec"),
    ("grace SECONDS|none", "end a broadcast for which nothing came for so long"),
    ("one-broadcast on|off", "take each key for one broadcast"),
    ("lose | shuffle | repeat PERCENT", "what happens to datagrams, both ways"),
    ("forget", "forget all SRT connections"),
];

impl PlatformFaults {
    /// Applies a command.
    ///
    /// # Errors
    /// Message about the part that cannot be parsed.
    pub fn apply_command(&mut self, line: &str) -> Result<(), String> {
        let mut words = line.split_whitespace();
        let (word, value) = (words.next().unwrap_or_default(), words.next());
        let rest = || line.trim().split_once(' ').map_or("", |(_, rest)| rest).trim().to_owned();
        let seconds = |value: &str| {
            let seconds = value.parse::<f64>().ok().and_then(|s| Duration::try_from_secs_f64(s).ok());
            seconds.ok_or_else(|| format!("{word} wants seconds"))
        };
        let limit = |value: &str| match value {
            "any" => Ok(None),
            value => value.parse::<u32>().map(Some).map_err(|_| format!("{word} wants a number, or any")),
        };
        match (word, value) {
            ("freeze", None) => self.frozen = true,
            ("thaw", None) => self.frozen = false,
            ("slow", Some(value)) => {
                let kbit: u32 = value.parse().map_err(|_| "slow wants kilobits per second".to_owned())?;
                self.slow = Some(kbit.saturating_mul(125).max(1));
            }
            ("fast", None) => self.slow = None,
            ("silent", Some(value)) => {
                self.silent_from = Some(match value {
                    "greeting" => Stage::Handshake,
                    "connect" => Stage::Connect,
                    "publish" => Stage::Publish,
                    _ => return Err("silent wants greeting, connect or publish".to_owned()),
                });
            }
            ("speak", None) => self.silent_from = None,
            ("reset", None) => self.resets += 1,
            ("flaky", Some(value)) => self.flaky = Some(seconds(value)?),
            ("steady", None) => self.flaky = None,
            ("end", _) => self.ends = (self.ends.0 + 1, said(rest(), "the broadcast was ended")),
            ("busy", Some(value)) => self.busy_after_drop = seconds(value)?,
            ("refuse-app", _) => self.refuses_app = Some(said(rest(), "this application is closed")),
            ("accept-app", None) => self.refuses_app = None,
            ("redirect", Some(address)) => self.redirects_to = Some(address.to_owned()),
            ("stay", None) => self.redirects_to = None,
            ("reconnect", address) => {
                self.reconnects = (self.reconnects.0 + 1, address.map(str::to_owned));
            }
            ("announce", _) => self.announces = rest().split_whitespace().map(str::to_owned).collect(),
            ("refuse-key", _) => self.refuses_key = Some(said(rest(), "this stream key is not known here")),
            ("bad-name", None) => self.refuses_key = Some(String::new()),
            ("accept-key", None) => self.refuses_key = None,
            ("lines", Some(value)) => self.limits.lines = limit(value)?,
            ("kbit", Some(value)) => self.limits.kbps = limit(value)?.map(u64::from),
            ("codec", Some("h264")) => self.limits.h264_only = true,
            ("codec", Some("any")) => self.limits.h264_only = false,
            ("grace", Some("none")) => self.grace = None,
            ("grace", Some(value)) => self.grace = Some(seconds(value)?),
            ("one-broadcast", Some("on")) => self.one_broadcast_keys = true,
            ("one-broadcast", Some("off")) => self.one_broadcast_keys = false,
            ("lose", Some(value)) => self.impairment.loss_permille = per_mille(value)?,
            ("shuffle", Some(value)) => self.impairment.reorder_permille = per_mille(value)?,
            ("repeat", Some(value)) => self.impairment.duplicate_permille = per_mille(value)?,
            ("forget", None) => self.forgets += 1,
            _ => return Err(format!("{:?} is not understood; say help", line.trim())),
        }
        Ok(())
    }
}

fn said(words: String, usual: &str) -> String {
    if words.is_empty() { usual.to_owned() } else { words }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_are_applied() {
        let mut faults = PlatformFaults::default();
        for line in [
            "freeze",
            "slow 800",
            "silent publish",
            "reset",
            "flaky 2.5",
            "end copyright claim",
            "busy 20",
            "refuse-app",
            "redirect rtmp://other.example.net/live",
            "reconnect",
            "reconnect /other",
            "announce hvc1 av01",
            "refuse-key expired key",
            "lines 720",
            "kbit 4000",
            "codec h264",
            "grace 10",
            "one-broadcast on",
            "lose 5",
            "shuffle 10",
            "repeat 1",
            "forget",
        ] {
            assert_eq!(faults.apply_command(line), Ok(()), "{line}");
        }
        assert_eq!((faults.slow, faults.silent_from), (Some(100_000), Some(Stage::Publish)));
        assert_eq!(faults.ends, (1, "copyright claim".to_owned()));
        assert_eq!(faults.refuses_key.as_deref(), Some("expired key"));
        assert_eq!(faults.reconnects, (2, Some("/other".to_owned())));
        assert_eq!(faults.announces, ["hvc1", "av01"]);
        faults.apply_command("bad-name").unwrap();
        assert_eq!(faults.refuses_key.as_deref(), Some(""));
        assert_eq!((faults.limits.lines, faults.limits.kbps), (Some(720), Some(4_000)));
        assert_eq!((faults.impairment.loss_permille, faults.grace), (50, Some(Duration::from_secs(10))));
        for line in [
            "thaw",
            "fast",
            "speak",
            "steady",
            "accept-app",
            "stay",
            "announce",
            "accept-key",
            "lines any",
            "kbit any",
            "codec any",
            "grace none",
            "one-broadcast off",
        ] {
            assert_eq!(faults.apply_command(line), Ok(()), "{line}");
        }
        assert!(faults.refuses_key.is_none() && faults.grace.is_none() && faults.limits.lines.is_none());
    }

    #[test]
    fn invalid_commands_are_refused_and_change_nothing() {
        let mut faults = PlatformFaults::default();
        for line in
            ["", "dance", "slow", "slow x", "flaky -1", "lines few", "silent never", "lose 101", "freeze now"]
        {
            assert!(faults.apply_command(line).is_err(), "{line}");
        }
        assert_eq!(faults, PlatformFaults::default());
    }
}
