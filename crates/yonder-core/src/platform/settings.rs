//! Rules as settings: names, and values as text with units.

use crate::budget::BitRate;
use crate::naming::nearest_name;
use crate::refusal::{RefusalMeaning, RefusalRule};

use super::rules::{AUDIO_CODECS, PROTOCOLS, RecommendedRate, RuleSheet, VIDEO_CODECS};

/// Error for a rule that cannot be set.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RuleError {
    /// Unknown rule.
    #[error("there is no rule {name:?}{}", .nearest.map(|nearest| format!("; did you mean {nearest}")).unwrap_or_default())]
    Unknown {
        /// The name.
        name: String,
        /// Rule with a similar name.
        nearest: Option<&'static str>,
    },
    /// The value cannot be parsed.
    #[error("{rule} requires {wanted}, not {value:?}")]
    Value {
        /// Rule.
        rule: &'static str,
        /// Expected form.
        wanted: &'static str,
        /// The value.
        value: String,
    },
}

/// Name of a rule and form of its value.
#[derive(Debug, Clone, Copy)]
pub struct Rule {
    /// Name.
    pub name: &'static str,
    /// Form of the value.
    pub wants: &'static str,
    set: fn(&mut RuleSheet, &str) -> Option<()>,
    get: fn(&RuleSheet) -> String,
}

/// All rules, in display order.
pub const RULES: [Rule; 21] = [
    Rule {
        name: "note",
        wants: "a sentence",
        set: |sheet, text| {
            text.clone_into(&mut sheet.note);
            Some(())
        },
        get: |sheet| sheet.note.clone(),
    },
    Rule {
        name: "protocols",
        wants: "some of rtmp, rtmps, srt",
        set: |sheet, text| parse_names(text, &PROTOCOLS).map(|words| sheet.protocols = words),
        get: |sheet| sheet.protocols.join(", "),
    },
    Rule {
        name: "encrypted",
        wants: "yes or no",
        set: |sheet, text| flag(text).map(|flag| sheet.encrypted = flag.unwrap_or_default()),
        get: |sheet| yes(sheet.encrypted),
    },
    Rule {
        name: "video.codecs",
        wants: "some of H.264, H.265",
        set: |sheet, text| parse_names(text, &VIDEO_CODECS).map(|words| sheet.video.codecs = words),
        get: |sheet| sheet.video.codecs.join(", "),
    },
    Rule {
        name: "video.max-width",
        wants: "a number of samples",
        set: |sheet, text| number(text).map(|number| sheet.video.max_width = number),
        get: |sheet| shown(sheet.video.max_width, ""),
    },
    Rule {
        name: "video.max-lines",
        wants: "a number of lines",
        set: |sheet, text| number(text).map(|number| sheet.video.max_lines = number),
        get: |sheet| shown(sheet.video.max_lines, ""),
    },
    Rule {
        name: "video.max-fps",
        wants: "frames per second",
        set: |sheet, text| number(text).map(|number| sheet.video.max_fps = number),
        get: |sheet| shown(sheet.video.max_fps, ""),
    },
    Rule {
        name: "video.ceiling",
        wants: "a rate with its unit, like 6Mbit/s",
        set: |sheet, text| rate(text).map(|rate| sheet.video.ceiling_kbps = rate),
        get: |sheet| shown_rate(sheet.video.ceiling_kbps),
    },
    Rule {
        name: "video.recommended",
        wants: "sizes with rates, like 720@30=1.5Mbit/s..4Mbit/s, separated by commas",
        set: |sheet, text| recommended(text).map(|rates| sheet.video.recommended = rates),
        get: |sheet| sheet.video.recommended.iter().map(shown_recommended).collect::<Vec<_>>().join(", "),
    },
    Rule {
        name: "video.min-keyframe-interval",
        wants: "seconds, like 1s",
        set: |sheet, text| seconds(text).map(|seconds| sheet.video.min_keyframe_interval_s = seconds),
        get: |sheet| shown(sheet.video.min_keyframe_interval_s, "s"),
    },
    Rule {
        name: "video.max-keyframe-interval",
        wants: "seconds, like 4s",
        set: |sheet, text| seconds(text).map(|seconds| sheet.video.max_keyframe_interval_s = seconds),
        get: |sheet| shown(sheet.video.max_keyframe_interval_s, "s"),
    },
    Rule {
        name: "video.b-frames",
        wants: "yes or no",
        set: |sheet, text| flag(text).map(|flag| sheet.video.b_frames = flag),
        get: |sheet| sheet.video.b_frames.map(yes).unwrap_or_default(),
    },
    Rule {
        name: "audio.needed",
        wants: "yes or no",
        set: |sheet, text| flag(text).map(|flag| sheet.audio.needed = flag.unwrap_or_default()),
        get: |sheet| yes(sheet.audio.needed),
    },
    Rule {
        name: "audio.codecs",
        wants: "some of AAC, G.711, Opus",
        set: |sheet, text| parse_names(text, &AUDIO_CODECS).map(|words| sheet.audio.codecs = words),
        get: |sheet| sheet.audio.codecs.join(", "),
    },
    Rule {
        name: "audio.rates",
        wants: "sampling rates in hertz, like 44100, 48000",
        set: |sheet, text| {
            let rates: Option<Vec<u32>> = items(text).map(|item| item.parse().ok()).collect();
            rates.map(|rates| sheet.audio.rates_hz = rates)
        },
        get: |sheet| sheet.audio.rates_hz.iter().map(u32::to_string).collect::<Vec<_>>().join(", "),
    },
    Rule {
        name: "audio.max-channels",
        wants: "a number of channels",
        set: |sheet, text| number(text).map(|number| sheet.audio.max_channels = number),
        get: |sheet| shown(sheet.audio.max_channels, ""),
    },
    Rule {
        name: "audio.ceiling",
        wants: "a rate with its unit, like 192kbit/s",
        set: |sheet, text| rate(text).map(|rate| sheet.audio.ceiling_kbps = rate),
        get: |sheet| shown_rate(sheet.audio.ceiling_kbps),
    },
    Rule {
        name: "broadcast.longest",
        wants: "hours, like 12h",
        set: |sheet, text| {
            let hours = if text.is_empty() { Some(None) } else { text.strip_suffix('h').and_then(number) };
            hours.map(|hours| sheet.broadcast.longest_h = hours)
        },
        get: |sheet| shown(sheet.broadcast.longest_h, "h"),
    },
    Rule {
        name: "broadcast.survives-silence",
        wants: "seconds, like 10s",
        set: |sheet, text| {
            let seconds = if text.is_empty() { Some(None) } else { text.strip_suffix('s').and_then(number) };
            seconds.map(|seconds| sheet.broadcast.survives_silence_s = seconds)
        },
        get: |sheet| shown(sheet.broadcast.survives_silence_s, "s"),
    },
    Rule {
        name: "broadcast.one-broadcast-keys",
        wants: "yes or no",
        set: |sheet, text| {
            flag(text).map(|flag| sheet.broadcast.one_broadcast_keys = flag.unwrap_or_default())
        },
        get: |sheet| yes(sheet.broadcast.one_broadcast_keys),
    },
    Rule {
        name: "refusals",
        wants: "texts of refusals with their meaning, like BadName=key-busy, separated by commas; meanings are not-ready, key-busy, key-refused, app-refused, codec-refused, passphrase-refused",
        set: |sheet, text| refusals(text).map(|rules| sheet.refusals = rules),
        get: |sheet| {
            let shown = |rule: &RefusalRule| format!("{}={}", rule.text, rule.means.as_str());
            sheet.refusals.iter().map(shown).collect::<Vec<_>>().join(", ")
        },
    },
];

impl RuleSheet {
    /// Sets a rule from text; an empty text removes the rule.
    ///
    /// # Errors
    /// [`RuleError`] for an unknown rule or an invalid value.
    pub fn set(&mut self, name: &str, text: &str) -> Result<(), RuleError> {
        let rule = RULES.iter().find(|rule| rule.name == name).ok_or_else(|| RuleError::Unknown {
            name: name.to_owned(),
            nearest: nearest_name(name, RULES.iter().map(|rule| rule.name))
                .and_then(|nearest| RULES.iter().map(|rule| rule.name).find(|name| *name == nearest)),
        })?;
        let text = text.trim();
        (rule.set)(self, text).ok_or_else(|| RuleError::Value {
            rule: rule.name,
            wanted: rule.wants,
            value: text.to_owned(),
        })
    }

    /// Returns the rules that are set, with values that [`RuleSheet::set`] parses.
    #[must_use]
    pub fn lines(&self) -> Vec<(&'static str, String)> {
        let all = RULES.iter().map(|rule| (rule.name, (rule.get)(self)));
        all.filter(|(_, value)| !value.is_empty() && value != "no").collect()
    }
}

fn items(text: &str) -> impl Iterator<Item = &str> {
    text.split(',').map(str::trim).filter(|item| !item.is_empty())
}

fn parse_names(text: &str, known: &[&str]) -> Option<Vec<String>> {
    let find = |item: &str| known.iter().find(|known| known.eq_ignore_ascii_case(item));
    items(text).map(|item| find(item).map(|known| (*known).to_owned())).collect()
}

/// Parses a flag; `Some(None)` for an empty text.
#[expect(clippy::option_option, reason = "readable or not, and set or not, are two questions")]
fn flag(text: &str) -> Option<Option<bool>> {
    match text.to_ascii_lowercase().as_str() {
        "" => Some(None),
        "yes" => Some(Some(true)),
        "no" => Some(Some(false)),
        _ => None,
    }
}

#[expect(clippy::option_option, reason = "readable or not, and set or not, are two questions")]
fn number<T: std::str::FromStr>(text: &str) -> Option<Option<T>> {
    if text.is_empty() { Some(None) } else { text.trim().parse().ok().map(Some) }
}

#[expect(clippy::option_option, reason = "readable or not, and set or not, are two questions")]
fn seconds(text: &str) -> Option<Option<f64>> {
    if text.is_empty() { Some(None) } else { number(text.strip_suffix('s')?) }
}

#[expect(clippy::option_option, reason = "readable or not, and set or not, are two questions")]
fn rate(text: &str) -> Option<Option<u32>> {
    if text.is_empty() {
        return Some(None);
    }
    let rate: BitRate = text.parse().ok()?;
    u32::try_from(rate.kbps()).ok().map(Some)
}

fn recommended(text: &str) -> Option<Vec<RecommendedRate>> {
    items(text)
        .map(|item| {
            let (size, rates) = item.split_once('=')?;
            let (lines, fps) = size.split_once('@')?;
            let (from, to) = rates.split_once("..")?;
            Some(RecommendedRate {
                lines: lines.trim().parse().ok()?,
                fps: fps.trim().parse().ok()?,
                from_kbps: rate(from.trim())??,
                to_kbps: rate(to.trim())??,
            })
        })
        .collect()
}

fn refusals(text: &str) -> Option<Vec<RefusalRule>> {
    items(text)
        .map(|item| {
            let (text, means) = item.rsplit_once('=')?;
            let means = RefusalMeaning::from_name(means.trim())?;
            Some(RefusalRule { text: text.trim().to_owned(), means })
        })
        .collect()
}

fn yes(flag: bool) -> String {
    if flag { "yes" } else { "no" }.to_owned()
}

fn shown<T: ToString>(value: Option<T>, unit: &str) -> String {
    value.map(|value| value.to_string() + unit).unwrap_or_default()
}

fn shown_rate(kbps: Option<u32>) -> String {
    kbps.map(|kbps| format!("{kbps}kbit/s")).unwrap_or_default()
}

fn shown_recommended(rate: &RecommendedRate) -> String {
    format!("{}@{}={}kbit/s..{}kbit/s", rate.lines, rate.fps, rate.from_kbps, rate.to_kbps)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::platform::shipped;
    use rstest::rstest;

    #[test]
    fn every_sheet_can_be_written_line_by_line() {
        for sheet in shipped() {
            let mut copy = RuleSheet::default();
            for (name, value) in sheet.rules.lines() {
                copy.set(name, &value).unwrap();
            }
            // "no" is the same as not set, except for B-frames, which has three states.
            if sheet.rules.video.b_frames == Some(false) {
                copy.video.b_frames = Some(false);
            }
            assert_eq!(copy, sheet.rules, "{}", sheet.name);
        }
    }

    #[rstest]
    #[case("video.ceiling", "6Mbit/s", "6000kbit/s")]
    #[case("video.ceiling", "750 kB/s", "6000kbit/s")]
    #[case("protocols", "RTMPS, srt", "rtmps, srt")]
    #[case("video.max-keyframe-interval", "2.5s", "2.5s")]
    #[case("broadcast.longest", "12h", "12h")]
    #[case("video.recommended", "720@30=1.5Mbit/s..4Mbit/s", "720@30=1500kbit/s..4000kbit/s")]
    #[case("audio.rates", "44100,48000", "44100, 48000")]
    #[case("refusals", "BadName=key-busy, 1404 = not-ready", "BadName=key-busy, 1404=not-ready")]
    fn values_are_read_with_their_units(#[case] rule: &str, #[case] text: &str, #[case] shown: &str) {
        let mut sheet = RuleSheet::default();
        sheet.set(rule, text).unwrap();
        assert_eq!(
            sheet.lines(),
            vec![(RULES.iter().find(|r| r.name == rule).unwrap().name, shown.to_owned())]
        );
        sheet.set(rule, "").unwrap();
        assert_eq!(sheet, RuleSheet::default());
    }

    #[rstest]
    #[case("video.ceiling", "6000")]
    #[case("video.ceiling", "6 furlongs")]
    #[case("protocols", "carrier pigeon")]
    #[case("video.b-frames", "perhaps")]
    #[case("broadcast.longest", "12")]
    #[case("refusals", "BadName=whatever")]
    fn invalid_value_is_refused_with_its_form(#[case] rule: &str, #[case] text: &str) {
        let error = RuleSheet::default().set(rule, text).unwrap_err();
        assert!(matches!(error, RuleError::Value { .. }), "{error}");
    }

    #[test]
    fn similar_rule_is_suggested() {
        let error = RuleSheet::default().set("video.celing", "1Mbit/s").unwrap_err();
        assert!(error.to_string().contains("video.ceiling"), "{error}");
    }
}
