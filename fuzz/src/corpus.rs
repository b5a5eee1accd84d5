//! Seeds of mutations: valid input, and input that caused faults before.

use std::fs;
use std::path::Path;

use crate::entries::platform_seeds;

/// Returns the seeds of an entry: built-in ones, and the files of `corpus/<name>/`.
#[must_use]
pub fn seeds(name: &str) -> Vec<Vec<u8>> {
    let mut seeds: Vec<Vec<u8>> = written(name);
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("corpus").join(name);
    let files = fs::read_dir(folder).into_iter().flatten().filter_map(Result::ok);
    let mut files: Vec<_> = files.map(|entry| entry.path()).collect();
    files.sort();
    seeds.extend(files.into_iter().filter_map(|file| fs::read(file).ok()));
    seeds
}

fn written(name: &str) -> Vec<Vec<u8>> {
    match name {
        "rtsp-dialogue" => vec![
            b"\x01RTSP/1.0 200 OK\r\nCSeq: 2\r\nContent-Base: rtsp://192.0.2.7/main/\r\nContent-Length: 4\r\n\r\nv=0\n".to_vec(),
            b"\x00RTSP/1.0 401 Unauthorized\r\nCSeq: 1\r\nWWW-Authenticate: Digest realm=\"a\", nonce=\"b\", qop=\"auth\", algorithm=SHA-256\r\n\r\n".to_vec(),
            b"\x02RTSP/1.0 200 OK\r\nCSeq: 3\r\nSession: a;timeout=30\r\nTransport: RTP/AVP/TCP;unicast;interleaved=0-1\r\n\r\n".to_vec(),
            b"\x01RTSP/1.0 302 Moved\r\nCSeq: 2\r\nLocation: rtsp://192.0.2.8/other\r\n\r\n".to_vec(),
            b"\x05$\x00\x00\x0d\x80\xe0\x00\x01\x00\x00\x00\x01\x00\x00\x00\x05\x65OPTIONS * RTSP/1.0\r\nCSeq: 7\r\n\r\n".to_vec(),
        ],
        "sdp" => vec![
            b"v=0\r\no=- 1 1 IN IP4 192.0.2.7\r\ns=x\r\nt=0 0\r\na=control:*\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=fmtp:96 packetization-mode=1;sprop-parameter-sets=Z0IAHtoCgPZA,aM48gA==,\r\na=framerate:12.5\r\na=control:trackID=1\r\n".to_vec(),
            b"v=0\nm=video 0 RTP/AVP 98\na=rtpmap:98 H265/90000\na=fmtp:98 sprop-vps=QAEMAf//AWAAAAMAkAAAAwAAAwB4lZgJ;sprop-max-don-diff=2\na=control:rtsp://192.0.2.7/v?x=1\nm=audio 0 RTP/AVP 8\na=control:/g\nm=audio 0 RTP/AVP 97\na=rtpmap:97 MP4A-LATM/44100\na=fmtp:97 cpresent=0;config=400024103fc0\n".to_vec(),
        ],
        "rtp-interleaved" | "rtp-datagrams" => rtp_seeds(),
        "parameter-sets" => vec![
            vec![0, 0, 1, 0x67, 0x42, 0x00, 0x1e, 0xda, 0x02, 0x80, 0xf6, 0x40, 0, 0, 1, 0x68, 0xce, 0x3c, 0x80],
            vec![
                0x67, 0x64, 0x00, 0x28, 0xac, 0xd9, 0x40, 0x78, 0x02, 0x27, 0xe5, 0xc0, 0x44, 0x00, 0x00, 0x03, 0x00,
                0x04, 0x00, 0x00, 0x03, 0x00, 0xc8, 0x3c, 0x60, 0xc6, 0x58,
            ],
            vec![
                0x42, 0x01, 0x01, 0x01, 0x60, 0x00, 0x00, 0x03, 0x00, 0x90, 0x00, 0x00, 0x03, 0x00, 0x00, 0x03, 0x00,
                0x78, 0xa0, 0x03, 0xc0, 0x80, 0x11, 0x07, 0xcb, 0x96, 0x56, 0x64, 0xa4, 0xc2, 0xe0, 0x10, 0x00, 0x00,
                0x3e, 0x80, 0x00, 0x06, 0x1a, 0x80, 0x80,
            ],
        ],
        "onvif" => vec![
            b"<e:Envelope><e:Header><w:RelatesTo>uuid:0a6dc791-2be6-4991-9af1-454778a1917a</w:RelatesTo></e:Header><e:Body><ProbeMatches><ProbeMatch><EndpointReference><Address>urn:uuid:7</Address></EndpointReference><Scopes>onvif://www.onvif.org/name/Summit%20Mast</Scopes><XAddrs>http://192.0.2.7/onvif/device</XAddrs></ProbeMatch></ProbeMatches></e:Body></e:Envelope>".to_vec(),
            b"<E><GetProfilesResponse><Profiles token='p&amp;0'><Name>main</Name><VideoSourceConfiguration><SourceToken>lens</SourceToken></VideoSourceConfiguration><VideoEncoderConfiguration><Encoding>H264</Encoding><Resolution><Width>1280</Width><Height>720</Height></Resolution><RateControl><FrameRateLimit>25</FrameRateLimit><BitrateLimit>2048</BitrateLimit></RateControl><H264><GovLength>50</GovLength></H264></VideoEncoderConfiguration></Profiles></GetProfilesResponse></E>".to_vec(),
            b"<E><SystemDateAndTime><UTCDateTime><Time><Hour>7</Hour><Minute>50</Minute><Second>45</Second></Time><Date><Year>2010</Year><Month>9</Month><Day>16</Day></Date></UTCDateTime></SystemDateAndTime></E>".to_vec(),
            b"<!DOCTYPE x [<!ENTITY a 'aaaa'><!ENTITY b '&a;&a;'>]><x>&b;<e:Fault><e:Code><e:Value>e:Sender</e:Value></e:Code></e:Fault></x>".to_vec(),
        ],
        name => platform_seeds(name),
    }
}

/// Returns a fragmented frame, audio, a sender report and a BYE, as length-prefixed packets.
fn rtp_seeds() -> Vec<Vec<u8>> {
    let packet = |channel: u8, sequence: u8, time: u8, marked: u8, payload: &[u8]| {
        let mut packet = vec![0x80, marked, 0, sequence, 0, 0, time, 0, 0, 0, 0, 5];
        packet.extend_from_slice(payload);
        let mut framed = vec![channel, 0, u8::try_from(packet.len()).unwrap_or(u8::MAX)];
        framed.append(&mut packet);
        framed
    };
    let h264 = [
        vec![0],
        packet(0, 1, 1, 0x60, &[0x67, 0x42, 0x00, 0x1e, 0xda, 0x02, 0x80, 0xf6, 0x40]),
        packet(0, 2, 1, 0x60, &[0x78, 0, 4, 0x68, 0xce, 0x3c, 0x80]),
        packet(0, 3, 1, 0x60, &[0x7c, 0x85, 1, 2]),
        packet(0, 4, 1, 0xe0, &[0x7c, 0x45, 3]),
        packet(2, 1, 1, 0xe1, &[0, 16, 0, 24, 7, 8, 9]),
        packet(0, 6, 2, 0xe0, &[0x41, 0x9a, 1]),
    ]
    .concat();
    let h265 = [
        vec![1],
        packet(0, 1, 1, 0x60, &[0x60, 1, 0, 3, 0x42, 1, 7]),
        packet(0, 2, 1, 0x60, &[0x62, 1, 0x93, 0x80, 2]),
        packet(0, 3, 1, 0xe0, &[0x62, 1, 0x53, 3]),
        packet(2, 1, 1, 0xe1, &[0x20, 0x00, 0x12, 0x08, 0x1f, 0xe0, 0x08, 1, 2]),
        packet(0, 5, 2, 0xe0, &[0x02, 1, 0x80]),
    ]
    .concat();
    let mut control = vec![0, 1, 0, 28, 0x80, 200, 0, 6, 0, 0, 0, 5, 0xe0, 0, 0, 1, 0x80, 0, 0, 0];
    control.extend([0, 0, 0x10, 0, 0, 0, 0, 9, 0, 0, 1, 0]);
    control.extend([1, 0, 8, 0x81, 203, 0, 1, 0, 0, 0, 9]);
    vec![h264, h265, control]
}
