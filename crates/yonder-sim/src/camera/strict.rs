//! Checks of a player's requests against RFC 2326, as strict cameras make them.

use yonder_rtsp::message::Request;

/// Checks of the requests of one connection.
#[derive(Debug, Default)]
pub(super) struct Strict {
    last_sequence: Option<u32>,
}

/// Violation, with the response to it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Violation {
    /// Status of the response.
    pub(super) status: u16,
    /// Reason phrase.
    pub(super) reason: &'static str,
}

impl Strict {
    /// Checks a request. `session` is the session ID, once there is one.
    pub(super) fn check(&mut self, request: &Request, session: Option<&str>) -> Result<(), Violation> {
        let refuse = |status, reason| Err(Violation { status, reason });
        // 12.17
        let sequence = request.headers.get("CSeq").and_then(|value| value.parse::<u32>().ok());
        let Some(sequence) = sequence else { return refuse(400, "CSeq missing") };
        if self.last_sequence.replace(sequence).is_some_and(|last| sequence <= last) {
            return refuse(400, "CSeq does not rise");
        }
        // 3.2: an absolute address, without an account.
        let authority = request.url.strip_prefix("rtsp://").or_else(|| request.url.strip_prefix("rtsps://"));
        let authority = authority.map(|rest| rest.split('/').next().unwrap_or_default());
        match authority {
            None | Some("") => return refuse(400, "Address not absolute"),
            Some(authority) if authority.contains('@') => return refuse(400, "Account in address"),
            Some(_) => {}
        }
        if request.headers.get("Authorization").is_some_and(|value| value.contains(['\r', '\n'])) {
            return refuse(400, "Authorization folded");
        }
        // 12.37: the id alone, in every request of a session.
        let named = request.headers.get("Session");
        match (request.method.as_str(), session, named) {
            ("PLAY" | "PAUSE" | "TEARDOWN" | "GET_PARAMETER", Some(own), named) if named != Some(own) => {
                return refuse(454, "Session Not Found");
            }
            ("SETUP", Some(own), named) if named != Some(own) => {
                return refuse(459, "Aggregate Operation Not Allowed");
            }
            (_, None, Some(_)) => return refuse(454, "Session Not Found"),
            _ => {}
        }
        match request.method.as_str() {
            // 12.1
            "DESCRIBE" if !has(request, "Accept", "application/sdp") => refuse(406, "Not Acceptable"),
            // 12.39
            "SETUP" if !has(request, "Transport", "unicast") => refuse(461, "Unsupported Transport"),
            _ if !request.body.is_empty() => refuse(400, "Body without a meaning"),
            _ => Ok(()),
        }
    }
}

fn has(request: &Request, name: &str, text: &str) -> bool {
    request.headers.get(name).is_some_and(|value| value.contains(text))
}

/// Checks an RTCP packet of a player (RFC 3550, 6.1): a compound that begins with a report and names its source.
pub(super) fn check_report(packet: &[u8]) -> Result<(), &'static str> {
    let mut rest = packet;
    let mut types = Vec::new();
    while let Some(&[first, kind, high, low]) = rest.first_chunk::<4>() {
        let length = 4 + 4 * usize::from(u16::from_be_bytes([high, low]));
        if first >> 6 != 2 {
            return Err("RTCP of another version");
        }
        rest = rest.get(length..).ok_or("RTCP that is cut short")?;
        types.push(kind);
    }
    match types.first() {
        Some(200 | 201) if rest.is_empty() && types.contains(&202) => Ok(()),
        Some(200 | 201) => Err("RTCP without a source description"),
        _ => Err("RTCP that begins with no report"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;
    use rstest::rstest;
    use yonder_rtsp::message::Headers;

    fn request(method: &str, url: &str, fields: &[(&str, &str)]) -> Request {
        let mut headers = Headers::default();
        for (name, value) in fields {
            headers.push(*name, *value);
        }
        Request { method: method.into(), url: url.into(), headers, body: Bytes::new() }
    }

    const URL: &str = "rtsp://192.0.2.7/main";

    #[test]
    fn dialogue_by_the_standard_is_accepted() {
        let mut strict = Strict::default();
        let checked = [
            (request("OPTIONS", URL, &[("CSeq", "1")]), None),
            (request("DESCRIBE", URL, &[("CSeq", "2"), ("Accept", "application/sdp")]), None),
            (request("SETUP", URL, &[("CSeq", "3"), ("Transport", "RTP/AVP/TCP;unicast")]), None),
            (request("PLAY", URL, &[("CSeq", "4"), ("Session", "7")]), Some("7")),
        ];
        for (request, session) in checked {
            assert_eq!(strict.check(&request, session), Ok(()), "{request:?}");
        }
    }

    #[rstest]
    #[case::no_sequence("OPTIONS", URL, &[], None, 400)]
    #[case::relative("OPTIONS", "/main", &[("CSeq", "1")], None, 400)]
    #[case::account("OPTIONS", "rtsp://a:b@192.0.2.7/", &[("CSeq", "1")], None, 400)]
    #[case::accept("DESCRIBE", URL, &[("CSeq", "1")], None, 406)]
    #[case::no_session("PLAY", URL, &[("CSeq", "1")], Some("7"), 454)]
    #[case::session_with_timeout("PLAY", URL, &[("CSeq", "1"), ("Session", "7;timeout=60")], Some("7"), 454)]
    #[case::second_track("SETUP", URL, &[("CSeq", "1"), ("Transport", "unicast")], Some("7"), 459)]
    fn deviation_is_refused(
        #[case] method: &str,
        #[case] url: &str,
        #[case] fields: &[(&str, &str)],
        #[case] session: Option<&str>,
        #[case] status: u16,
    ) {
        let violation = Strict::default().check(&request(method, url, fields), session).unwrap_err();
        assert_eq!(violation.status, status);
    }

    #[rstest]
    #[case::report(&[0x80, 201, 0, 1, 0, 0, 0, 1, 0x81, 202, 0, 1, 0, 0, 0, 1], true)]
    #[case::no_source(&[0x80, 201, 0, 1, 0, 0, 0, 1], false)]
    #[case::no_report(&[0x81, 202, 0, 1, 0, 0, 0, 1], false)]
    #[case::cut(&[0x80, 201, 0, 9, 0, 0, 0, 1], false)]
    #[case::other_version(&[0x40, 201, 0, 0], false)]
    fn reports_are_checked(#[case] packet: &[u8], #[case] is_right: bool) {
        assert_eq!(check_report(packet).is_ok(), is_right);
    }
}
