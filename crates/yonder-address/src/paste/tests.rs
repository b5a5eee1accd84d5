use super::*;
use crate::authority::AuthorityError;
use crate::passphrase::PassphraseError;
use crate::srt::stream_id;
use proptest::prelude::*;
use rstest::rstest;

const LIVE: &str = "rtmp://ingest.example.net/live";
const KEY: &str = "abcd-1234-efgh";

/// The ways in which people paste a server and a key: what each becomes, and what is said about it.
#[rstest]
#[case::plain(LIVE, KEY, LIVE, KEY, &[])]
#[case::blanks(" rtmp://ingest.example.net/live ", " abcd-1234-efgh\t", LIVE, KEY, &[Repair::Trimmed])]
#[case::line_end(LIVE, "abcd-1234-efgh\r\n", LIVE, KEY, &[Repair::Trimmed])]
#[case::folded(LIVE, "abcd-1234-\nefgh", LIVE, KEY, &[Repair::Unfolded])]
#[case::quotes("\"rtmp://ingest.example.net/live\"", "'abcd-1234-efgh'", LIVE, KEY, &[Repair::Unquoted])]
#[case::typographic_quotes(LIVE, " “abcd-1234-efgh” ", LIVE, KEY, &[Repair::Trimmed, Repair::Unquoted])]
#[case::doubled_slash("rtmp://ingest.example.net//live/", KEY, LIVE, KEY, &[Repair::Slashes])]
#[case::slash_before_key(LIVE, "/abcd-1234-efgh", LIVE, KEY, &[Repair::Slashes])]
#[case::missing_slash("rtmp:/ingest.example.net/live", KEY, LIVE, KEY, &[Repair::SchemeSlash])]
#[case::key_in_both("rtmp://ingest.example.net/live/abcd-1234-efgh", KEY, LIVE, KEY, &[Repair::KeyTwice])]
#[case::all_in_server("rtmp://ingest.example.net/live/abcd-1234-efgh", "", LIVE, KEY, &[Repair::KeySplitOff])]
#[case::all_in_key("", "rtmp://ingest.example.net/live/abcd-1234-efgh", LIVE, KEY, &[Repair::KeySplitOff])]
#[case::whole_address_as_key(LIVE, "rtmp://ingest.example.net/live/abcd-1234-efgh", LIVE, KEY, &[Repair::KeyInAddress])]
#[case::whole_address_twice(
    "rtmp://ingest.example.net/live/abcd-1234-efgh",
    "rtmp://ingest.example.net/live/abcd-1234-efgh",
    LIVE,
    KEY,
    &[Repair::KeyInAddress]
)]
#[case::tls_on_plain_port(
    "rtmps://ingest.example.net:1935/live",
    KEY,
    "rtmps://ingest.example.net:1935/live",
    KEY,
    &[Repair::TlsOnPlainPort]
)]
#[case::plain_on_tls_port(
    "rtmp://ingest.example.net:443/live",
    KEY,
    "rtmp://ingest.example.net:443/live",
    KEY,
    &[Repair::PlainOnTlsPort]
)]
#[case::tls_port("rtmps://ingest.example.net:443/live", KEY, "rtmps://ingest.example.net:443/live", KEY, &[])]
#[case::ipv6("rtmp://[2001:DB8::1]/live", KEY, "rtmp://[2001:db8::1]/live", KEY, &[])]
#[case::parameters(LIVE, "abcd?a=b&c=d", LIVE, "abcd?a=b&c=d", &[])]
#[case::parameters_with_slash(
    "rtmp://ingest.example.net/live/abcd?to=/x",
    "",
    LIVE,
    "abcd?to=/x",
    &[Repair::KeySplitOff]
)]
#[case::upper_case("RTMP://Ingest.Example.net/live", KEY, LIVE, KEY, &[])]
#[case::instance("rtmp://ingest.example.net/live/two", KEY, "rtmp://ingest.example.net/live/two", KEY, &[])]
fn pasted_input_is_assigned_to_server_and_key(
    #[case] server: &str,
    #[case] key: &str,
    #[case] shown: &str,
    #[case] read: &str,
    #[case] repairs: &[Repair],
) {
    let pasted = read_pasted(Some(server), Some(key)).unwrap();
    assert_eq!(pasted.server.to_string(), shown);
    assert_eq!(pasted.key.unwrap().expose(), read);
    assert_eq!(pasted.repairs, repairs);
}

#[rstest]
#[case::watch_page("https://bramble.example.net/watch/summit", KEY, AddressError::WebPage.into())]
#[case::camera("rtsp://192.0.2.7/main", KEY, AddressError::Camera.into())]
#[case::no_scheme("ingest.example.net/live", KEY, AddressError::Scheme.into())]
#[case::other_scheme("ftp://ingest.example.net/live", KEY, AddressError::Scheme.into())]
#[case::no_host("rtmp:///live", KEY, AddressError::Authority(AuthorityError::NoHost).into())]
#[case::no_app("rtmp://ingest.example.net", KEY, AddressError::NoApplication("ingest.example.net".into()).into())]
#[case::blank_inside("rtmp://in gest/live", KEY, AddressError::Blank(10).into())]
#[case::credentials("rtmp://a:b@ingest.example.net/live", KEY, AddressError::Credentials.into())]
#[case::empty_key(LIVE, " \n", PasteError::NoKey)]
#[case::only_a_slash(LIVE, "/", KeyError::Empty.into())]
#[case::blank_in_key(LIVE, "ab cd", KeyError::Blank(3).into())]
#[case::control_in_key(LIVE, "ab\u{7}cd", KeyError::Control(3).into())]
#[case::other_server(LIVE, "rtmp://other.example.net/live/abcd", KeyError::OtherAddress.into())]
#[case::key_without_server("", KEY, PasteError::NoServer)]
#[case::nothing("", "", PasteError::NoServer)]
#[case::srt_without_port("srt://ingest.example.net", KEY, AddressError::NoPort("ingest.example.net".into()).into())]
#[case::srt_path("srt://ingest.example.net:8890/live", KEY, AddressError::Path.into())]
#[case::srt_listener("srt://ingest.example.net:8890?mode=listener", KEY, AddressError::Mode("listener".into()).into())]
#[case::srt_passphrase("srt://ingest.example.net:8890?passphrase=x", KEY, AddressError::Passphrase(PassphraseError::Length(1)).into())]
#[case::srt_key_length("srt://ingest.example.net:8890?pbkeylen=17", KEY, AddressError::KeyLength("17".into()).into())]
#[case::srt_files("srt://ingest.example.net:8890?transtype=file", KEY, AddressError::FileMode.into())]
#[case::srt_latency_beyond("srt://ingest.example.net:8890?latency=9000000", KEY, AddressError::Latency("9000000".into()).into())]
#[case::srt_latency("srt://ingest.example.net:8890?latency=9s", KEY, AddressError::Latency("9s".into()).into())]
#[case::srt_id_and_key("srt://ingest.example.net:8890?streamid=x", KEY, PasteError::StreamIdAndKey)]
#[case::srt_open_blank("srt://ingest.example.net:8890?streamid=a-{key}", "", PasteError::NoKey)]
fn invalid_input_is_refused_with_its_reason(
    #[case] server: &str,
    #[case] key: &str,
    #[case] error: PasteError,
) {
    let refused = read_pasted(Some(server), Some(key)).unwrap_err();
    assert_eq!(refused, error);
    assert!(!refused.to_string().contains(KEY));
}

#[test]
fn stream_id_of_an_srt_address_becomes_the_key() {
    let pasted = read_pasted(
        Some("srt://ingest.example.net:8890?streamid=%23!::r=summit,m=publish&latency=200"),
        None,
    );
    let pasted = pasted.unwrap();
    assert_eq!(pasted.server.to_string(), "srt://ingest.example.net:8890?latency=200");
    assert_eq!(pasted.key.unwrap().expose(), "#!::r=summit,m=publish");
    assert_eq!(pasted.repairs, [Repair::StreamIdSealed]);
}

#[test]
fn srt_address_forms_of_platforms_and_encoders_are_accepted() {
    let text = "srt://ingest.example.net:8890?mode=caller&transtype=live&pkt_size=1316&latency=200000\
                &pbkeylen=32&passphrase=planted%20phrase%2042&streamid=%23!::m=publish,r=summit";
    let pasted = read_pasted(Some(text), None).unwrap();
    assert_eq!(pasted.server.to_string(), "srt://ingest.example.net:8890?latency=200");
    assert_eq!(pasted.passphrase.as_ref().map(Passphrase::expose), Some("planted phrase 42"));
    assert_eq!(pasted.key_length, Some(KeyLength::Aes256));
    assert_eq!(
        pasted.repairs,
        [
            Repair::ParameterDropped("pkt_size".into()),
            Repair::LatencyInMicroseconds,
            Repair::StreamIdSealed,
            Repair::PassphraseSealed,
        ]
    );
    assert!(!format!("{pasted:?}").contains("planted"));
    assert_eq!(read_server(text).unwrap_err(), AddressError::PassphraseInAddress);
}

#[rstest]
#[case::publishes("#!::r=summit,m=publish", &[])]
#[case::any_order("#!::u=guest,m=publish,r=summit,x=1", &[])]
#[case::plain("publish/summit", &[])]
#[case::views("#!::r=summit,m=request", &[Repair::StreamIdDoesNotPublish])]
#[case::no_mode("#!::r=summit", &[Repair::StreamIdDoesNotPublish])]
#[case::no_resource("#!::m=publish", &[Repair::StreamIdWithoutResource])]
#[case::no_pairs("#!::summit", &[Repair::StreamIdMalformed])]
fn stream_id_of_the_standard_form_is_checked(#[case] id: &str, #[case] remarks: &[Repair]) {
    let pasted = read_pasted(Some("srt://ingest.example.net:8890"), Some(id)).unwrap();
    assert_eq!(pasted.repairs, remarks);
    assert_eq!(pasted.key.unwrap().expose(), id);
}

#[test]
fn key_is_inserted_into_the_stream_id() {
    let pasted =
        read_pasted(Some("srt://ingest.example.net:8890?streamid=publish/{key}"), Some(KEY)).unwrap();
    let ServerAddress::Srt(server) = &pasted.server else { panic!("not SRT") };
    let id = stream_id(server, pasted.key.as_ref()).unwrap().unwrap();
    assert_eq!(id.expose(), "publish/abcd-1234-efgh");
    assert_eq!(pasted.server.to_string(), "srt://ingest.example.net:8890?latency=120&streamid=publish/{key}");
}

#[test]
fn srt_does_not_require_a_key() {
    let pasted = read_pasted(Some("srt://192.0.2.9:8890?mode=caller"), None).unwrap();
    let ServerAddress::Srt(server) = &pasted.server else { panic!("not SRT") };
    assert!(stream_id(server, pasted.key.as_ref()).unwrap().is_none());
}

#[test]
fn at_most_four_characters_of_a_key_are_displayed() {
    let key = |text| read_pasted(Some(LIVE), Some(text)).unwrap().key.unwrap();
    assert_eq!(format!("{:?}", key("planted-secret-key")), "StreamKey(…-key)");
    assert_eq!(format!("{:?}", key("short")), "StreamKey(…)");
}

proptest! {
    #[test]
    fn displayed_address_parses_to_the_same_value(
        host in "[a-z]{1,8}(\\.[a-z]{1,8}){0,2}",
        port in 1_u16..,
        id in "[ -~]{0,20}\\{key\\}[ -~]{0,20}",
        latency in 20_u16..8_000,
    ) {
        let server = ServerAddress::Srt(SrtServer { host, port, stream_id: Some(id), latency_ms: latency });
        let (read, repairs) = read_server(&server.to_string()).unwrap();
        prop_assert_eq!(read, server);
        prop_assert_eq!(repairs, vec![]);
    }

    #[test]
    fn any_text_is_parsed_or_refused(server: String, key: String) {
        let _ = read_pasted(Some(&server), Some(&key));
        let _ = read_server(&server);
    }
}

#[rstest]
#[case::with_our_key("rtmp://b.example.net/live/planted-key-42", "rtmp://b.example.net/live", true)]
#[case::without_a_key("rtmp://b.example.net/live", "rtmp://b.example.net/live", false)]
#[case::with_a_longer_application(
    "rtmp://b.example.net/live/backup",
    "rtmp://b.example.net/live/backup",
    false
)]
#[case::with_another_application(
    "rtmp://b.example.net/spare2/planted-key-42",
    "rtmp://b.example.net/spare2",
    true
)]
fn key_at_the_end_of_a_backup_address_is_removed(
    #[case] text: &str,
    #[case] read: &str,
    #[case] is_repaired: bool,
) {
    let main = read_pasted(Some("rtmp://a.example.net/live"), Some("planted-key-42")).unwrap();
    let (backup, repairs) = read_backup(text, &main.server, main.key.as_ref()).unwrap();
    assert_eq!((backup.to_string().as_str(), repairs.contains(&Repair::KeyTwice)), (read, is_repaired));
}

#[test]
fn backup_address_with_another_key_is_refused_without_showing_it() {
    let main = read_pasted(Some("rtmp://a.example.net/live"), Some("planted-key-42")).unwrap();
    let other = "rtmp://b.example.net/live/planted-other-43";
    let error = read_backup(other, &main.server, main.key.as_ref()).unwrap_err();
    assert_eq!(error, PasteError::OtherKey);
    assert!(!error.to_string().contains("planted"));
}

#[rstest]
#[case::another_port("rtmp://a.example.net:1935/live", "rtmp://a.example.net:1936/live", true)]
#[case::with_and_without_tls("rtmp://a.example.net/live", "rtmps://A.example.net/live", true)]
#[case::another_host("rtmp://a.example.net/live", "rtmp://b.example.net/live", false)]
#[case::srt_same_port("srt://a.example.net:9000", "srt://a.example.net:9000", true)]
#[case::srt_another_listener("srt://a.example.net:9000", "srt://a.example.net:9001", false)]
#[case::another_protocol("srt://a.example.net:1935", "rtmp://a.example.net:1935/live", false)]
fn key_identifies_the_same_broadcast_at_the_same_ingest(
    #[case] a: &str,
    #[case] b: &str,
    #[case] same: bool,
) {
    let server = |text: &str| read_server(text).unwrap().0;
    assert_eq!(server(a).is_same_ingest(&server(b)), same);
    assert_eq!(server(b).is_same_ingest(&server(a)), same);
}
