//! Session descriptions (RFC 8866), parsed leniently, since cameras often violate the format.

/// Maximum media lines that are parsed.
const MAX_MEDIA: usize = 16;
/// Maximum payload types per media line.
const MAX_FORMATS: usize = 8;

/// Payload type of a media line.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Media {
    /// `video`, `audio`, `application` …
    pub kind: String,
    /// Payload type.
    pub payload_type: u8,
    /// Encoding name from `rtpmap`, or the static one of RFC 3551.
    pub encoding: String,
    /// RTP clock rate in hertz.
    pub clock_rate: u32,
    /// Channels from `rtpmap`; default 1.
    pub channels: u8,
    /// Format parameters, names in lower case.
    pub parameters: Vec<(String, String)>,
    /// `control` attribute.
    pub control: Option<String>,
    /// Frame rate from the `framerate` attribute (RFC 8866, 6.11).
    pub frame_rate: Option<f64>,
}

impl Media {
    /// Returns a format parameter by its lower-case name.
    #[must_use]
    pub fn parameter(&self, name: &str) -> Option<&str> {
        self.parameters.iter().find(|(key, _)| key == name).map(|(_, value)| value.as_str())
    }
}

/// Session description.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Description {
    /// Session-level `control` attribute.
    pub control: Option<String>,
    /// Payload types of the media lines in order.
    pub media: Vec<Media>,
    /// Number of media lines.
    lines: usize,
    /// Index of the first entry of the last media line.
    line_begin: usize,
}

impl Description {
    /// Parses a description. Invalid lines are skipped.
    #[must_use]
    pub fn parse(text: &str) -> Self {
        let mut description = Self::default();
        for line in text.lines().map(str::trim) {
            let Some((key, value)) = line.split_once('=') else { continue };
            match key.trim() {
                "m" => {
                    if description.lines == MAX_MEDIA {
                        break;
                    }
                    description.lines += 1;
                    description.line_begin = description.media.len();
                    description.media.extend(media_line(value));
                }
                "a" => description.attribute(value),
                _ => {}
            }
        }
        description
    }

    fn attribute(&mut self, attribute: &str) {
        let (name, value) = attribute.split_once(':').unwrap_or((attribute, ""));
        let value = value.trim();
        let line = self.media.get_mut(self.line_begin..).unwrap_or_default();
        if line.is_empty() {
            if name == "control" {
                self.control = Some(value.to_owned());
            }
            return;
        }
        for media in line {
            match name {
                "control" => media.control = Some(value.to_owned()),
                "rtpmap" => read_rtpmap(media, value),
                "fmtp" => read_fmtp(media, value),
                "framerate" => {
                    media.frame_rate = value.parse().ok().filter(|rate| *rate > 0.0 && *rate <= 1_000.0);
                }
                _ => {}
            }
        }
    }
}

/// Parses a media line: one entry per payload type, since any of them may be supported.
fn media_line(value: &str) -> Vec<Media> {
    let mut words = value.split_whitespace();
    let kind = words.next().unwrap_or_default().to_ascii_lowercase();
    let formats: Vec<u8> = words.skip(2).take(MAX_FORMATS).filter_map(|format| format.parse().ok()).collect();
    if formats.is_empty() {
        return vec![media_of(&kind, 0)];
    }
    formats.into_iter().map(|payload_type| media_of(&kind, payload_type)).collect()
}

fn media_of(kind: &str, payload_type: u8) -> Media {
    // Static payload types of RFC 3551, table 4, without `rtpmap`.
    let (encoding, clock_rate) = match (kind, payload_type) {
        ("audio", 0) => ("PCMU", 8_000),
        ("audio", 8) => ("PCMA", 8_000),
        ("audio", 9) => ("G722", 8_000),
        ("audio", 14) => ("MPA", 90_000),
        ("video", 26) => ("JPEG", 90_000),
        _ => ("", 90_000),
    };
    Media {
        kind: kind.to_owned(),
        payload_type,
        encoding: encoding.into(),
        clock_rate,
        channels: 1,
        ..Media::default()
    }
}

/// `<payload type> <encoding>/<clock rate>[/<channels>]`
fn read_rtpmap(media: &mut Media, value: &str) {
    let Some((payload_type, rest)) = value.split_once(char::is_whitespace) else { return };
    if payload_type.parse() != Ok(media.payload_type) {
        return;
    }
    let mut parts = rest.trim().split('/');
    media.encoding = parts.next().unwrap_or_default().trim().to_ascii_uppercase();
    if let Some(rate) = parts.next().and_then(|rate| rate.trim().parse().ok()).filter(|rate| *rate > 0) {
        media.clock_rate = rate;
    }
    media.channels = parts.next().and_then(|channels| channels.trim().parse().ok()).unwrap_or(1);
}

/// `<payload type> name=value; name=value;`
fn read_fmtp(media: &mut Media, value: &str) {
    let Some((payload_type, rest)) = value.split_once(char::is_whitespace) else { return };
    if payload_type.parse() != Ok(media.payload_type) {
        return;
    }
    for parameter in rest.split(';') {
        let (name, value) = parameter.split_once('=').unwrap_or((parameter, ""));
        let name = name.trim().to_ascii_lowercase();
        if !name.is_empty() {
            media.parameters.push((name, value.trim().to_owned()));
        }
    }
}

/// Resolves a `control` attribute against the base address (RFC 2326, C.1.1): absolute, relative or `*`.
#[must_use]
pub fn resolve_control(base: &str, control: Option<&str>) -> String {
    match control.map(str::trim) {
        None | Some("" | "*") => base.to_owned(),
        Some(absolute) if absolute.contains("://") => absolute.to_owned(),
        Some(from_root) if from_root.starts_with('/') => {
            let authority = base.find("://").map_or(0, |at| at + 3);
            let path =
                base.get(authority..).and_then(|rest| rest.find('/')).map_or(base.len(), |at| authority + at);
            format!("{}{from_root}", base.get(..path).unwrap_or(base))
        }
        // As cameras interpret it: append, even after a query.
        Some(relative) if base.ends_with('/') => format!("{base}{relative}"),
        Some(relative) => format!("{base}/{relative}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    const CAMERA: &str = "v=0\no=- 1 1 IN IP4 192.0.2.7\ns=Summit\nt=0 0\na=control:*\n\
        m=video 0 RTP/AVP 96\na=rtpmap:96 H264/90000\n\
        a=fmtp:96 packetization-mode=1; sprop-parameter-sets=Z0IAHtoCgPZA,aM48gA==; profile-level-id=42001E;\n\
        a=control:trackID=1\na=framerate:12.5\nm=audio 0 RTP/AVP 97\na=rtpmap:97 mpeg4-generic/48000/2\n\
        a=fmtp:97 mode=AAC-hbr;config=1190;SizeLength=13\na=control:trackID=2\n";

    #[test]
    fn typical_description_is_parsed() {
        let description = Description::parse(CAMERA);
        assert_eq!(description.control.as_deref(), Some("*"));
        assert_eq!(description.media[0].frame_rate, Some(12.5));
        let [video, audio] = description.media.as_slice() else { panic!() };
        assert_eq!((video.encoding.as_str(), video.clock_rate, video.payload_type), ("H264", 90_000, 96));
        assert_eq!(video.parameter("sprop-parameter-sets"), Some("Z0IAHtoCgPZA,aM48gA=="));
        assert_eq!((audio.encoding.as_str(), audio.clock_rate, audio.channels), ("MPEG4-GENERIC", 48_000, 2));
        assert_eq!(audio.parameter("sizelength"), Some("13"));
        assert_eq!(audio.control.as_deref(), Some("trackID=2"));
    }

    #[test]
    fn carriage_returns_and_static_types_are_accepted() {
        let description = Description::parse("v=0\r\nm=audio 0 RTP/AVP 8\r\na=control:x\r\n");
        assert_eq!(description.media[0].encoding, "PCMA");
        assert_eq!(description.media[0].clock_rate, 8_000);
    }

    #[test]
    fn attributes_of_other_payload_types_are_ignored() {
        let description =
            Description::parse("m=video 0 RTP/AVP 96 97\na=rtpmap:97 H265/90000\na=rtpmap:96 H264/90000\n");
        assert_eq!(description.media[0].encoding, "H264");
    }

    #[rstest]
    #[case("rtsp://h/a", None, "rtsp://h/a")]
    #[case("rtsp://h/a", Some("*"), "rtsp://h/a")]
    #[case("rtsp://h/a/", Some("trackID=1"), "rtsp://h/a/trackID=1")]
    #[case("rtsp://h/a", Some("trackID=1"), "rtsp://h/a/trackID=1")]
    #[case("rtsp://h/a?x=1", Some("trackID=1"), "rtsp://h/a?x=1/trackID=1")]
    #[case("rtsp://h/a", Some("rtsp://h/b/t1"), "rtsp://h/b/t1")]
    #[case("rtsp://h:8554/a/b", Some("/c"), "rtsp://h:8554/c")]
    fn controls_are_resolved(#[case] base: &str, #[case] control: Option<&str>, #[case] url: &str) {
        assert_eq!(resolve_control(base, control), url);
    }

    proptest! {
        #[test]
        fn any_text_is_parsed_without_panic(text in "([vmoast]=[ -~]{0,40}\n){0,30}") {
            prop_assert!(Description::parse(&text).media.len() <= MAX_MEDIA);
        }
    }
}
