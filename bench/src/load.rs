//! Load: a camera with a given bit rate, a platform, and a sink, in the measuring process.

use std::collections::HashSet;
use std::net::{SocketAddr, TcpListener, UdpSocket};
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context as _;
use bytes::{BufMut as _, Bytes, BytesMut};
use fastrand::Rng;
use parking_lot::Mutex;
use yonder_address::read_pasted;
use yonder_engine::PushSpec;
use yonder_media::{FrameRate, ParameterSets, VideoCodec};
use yonder_sim::{
    Camera, CameraConfig, CameraStream, LoopFrame, LoopMedia, Platform, PlatformConfig, SrtConfig,
    railway_feeds,
};

/// SRT listeners, used by the pushes in turn.
const SRT_LISTENERS: usize = 4;
/// Path of the camera's stream.
pub(crate) const PATH: &str = "/load";
const FPS: u32 = 25;
const KEYFRAME_EVERY: i64 = 50;
/// SPS of Baseline with 640x480, and a PPS: enough for a relay, which does not decode.
pub(crate) const SPS: &[u8] = &[0x67, 0x42, 0x00, 0x1e, 0xda, 0x02, 0x80, 0xf6, 0x40];
pub(crate) const PPS: &[u8] = &[0x68, 0xce, 0x3c, 0x80];

/// Size of a full acknowledgement (ACK) of SRT.
pub(crate) const ACKNOWLEDGEMENT: usize = 44;

pub(crate) struct Load {
    pub(crate) camera: Camera,
    /// Media of the camera.
    pub(crate) media: Arc<LoopMedia>,
    pub(crate) platform: Platform,
    /// Additional platforms with the same channels: a separate socket for some of the SRT pushes, as with real platforms.
    others: Vec<Platform>,
    pub(crate) sink: SocketAddr,
    pub(crate) datagram_sink: SocketAddr,
}

impl Load {
    /// Must be called within a tokio runtime.
    pub(crate) fn start(mbps: u32, pushes: u32) -> anyhow::Result<Self> {
        Self::with_media(media(mbps * 1_000), pushes)
    }

    /// The same at `kbps`, with AAC audio. Must be called within a tokio runtime.
    pub(crate) fn with_audio(kbps: u32, pushes: u32) -> anyhow::Result<Self> {
        let audio = railway_feeds().iter().find_map(|feed| feed.main().audio);
        Self::with_media(LoopMedia { audio, ..media(kbps) }, pushes)
    }

    fn with_media(media: LoopMedia, pushes: u32) -> anyhow::Result<Self> {
        let media = Arc::new(media);
        let stream = CameraStream { path: PATH.into(), media: Arc::clone(&media) };
        let camera = Camera::start(CameraConfig { streams: vec![stream], ..CameraConfig::default() })?;
        let channels = (0..pushes).map(|at| (format!("channel-{at}"), key(at).into())).collect();
        let config = PlatformConfig {
            app: "live".into(),
            channels,
            srt: Some(SrtConfig::default()),
            ..PlatformConfig::default()
        };
        let platform = Platform::start(config.clone())?;
        let others = (1..SRT_LISTENERS).map(|_| Platform::start(config.clone())).collect::<Result<_, _>>()?;
        Ok(Self { camera, media, platform, others, sink: sink()?, datagram_sink: datagram_sink()? })
    }

    /// Returns the addresses of the SRT listeners, comma-separated. The buffer of a single socket is too small for a
    /// keyframe of sixteen pushes at once.
    pub(crate) fn srt_servers(&self) -> anyhow::Result<String> {
        let all = std::iter::once(&self.platform).chain(&self.others);
        let servers = all.map(|platform| platform.srt_server().context("the platform speaks SRT"));
        Ok(servers.collect::<anyhow::Result<Vec<_>>>()?.join(","))
    }
}

/// Returns a push to a server, or to one of several in turn, with the key of a channel.
pub(crate) fn push(at: u32, servers: &str) -> anyhow::Result<PushSpec> {
    let servers: Vec<&str> = servers.split(',').collect();
    let server = servers.get(usize::try_from(at)? % servers.len()).context("a server")?;
    let pasted = read_pasted(Some(server), Some(&key(at)))?;
    Ok(PushSpec {
        destination: format!("push-{at}"),
        server: pasted.server,
        backup: None,
        failback_delay: Duration::from_secs(120),
        key: pasted.key,
        encryption: None,
        secret_lost: false,
        authority: None,
        uplinks: Vec::new(),
        refusals: Default::default(),
        history: Default::default(),
        adaptation: yonder_engine::Adaptation::NONE,
    })
}

/// Returns the stream key of a channel.
pub(crate) fn key(at: u32) -> String {
    format!("load-key-{at}")
}

/// Returns a loop of four seconds at the given bit rate, with keyframes four times as large as other frames.
fn media(kbps: u32) -> LoopMedia {
    let per_second = i64::from(kbps) * 125;
    let per_frame = per_second / i64::from(FPS) * KEYFRAME_EVERY / (KEYFRAME_EVERY + 3);
    let mut noise = Rng::with_seed(0x9e37_79b9);
    let frames = (0..2 * KEYFRAME_EVERY)
        .map(|shown| {
            let keyframe = shown % KEYFRAME_EVERY == 0;
            let size = if keyframe { per_frame * 4 } else { per_frame };
            let picture = picture(keyframe, usize::try_from(size).unwrap_or_default(), &mut noise);
            let mut nals = Vec::new();
            if keyframe {
                nals.extend([Bytes::from_static(SPS), Bytes::from_static(PPS)]);
            }
            nals.push(picture);
            LoopFrame { nals, shown, keyframe }
        })
        .collect();
    let mut sets = ParameterSets::new(VideoCodec::H264);
    for set in [SPS, PPS] {
        sets.take(&Bytes::from_static(set));
    }
    #[expect(clippy::expect_used, reason = "the parameter sets are written above")]
    let video = sets.config().expect("the parameter sets can be read");
    LoopMedia { frame_rate: FrameRate { frames: FPS, per: 1 }, video, frames, audio: None }
}

fn picture(keyframe: bool, size: usize, noise: &mut Rng) -> Bytes {
    let mut nal = BytesMut::with_capacity(size + 4);
    nal.put_u8(if keyframe { 0x65 } else { 0x41 });
    while nal.len() < size {
        // Bytes that cannot form a start code.
        nal.put_u32(noise.u32(..) | 0x0101_0101);
    }
    nal.freeze()
}

/// Opens a port that discards all data.
fn sink() -> anyhow::Result<SocketAddr> {
    let listener = TcpListener::bind("127.0.0.1:0").context("no port for the sink")?;
    let address = listener.local_addr()?;
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            std::thread::spawn(move || std::io::copy(&mut stream, &mut std::io::sink()));
        }
    });
    Ok(address)
}

/// Opens a port that receives datagrams and acknowledges those of each sender every ten milliseconds, as an SRT
/// listener, without parsing them.
fn datagram_sink() -> anyhow::Result<SocketAddr> {
    let socket = UdpSocket::bind("127.0.0.1:0").context("no port for the sink")?;
    let address = socket.local_addr()?;
    let senders: Arc<Mutex<HashSet<SocketAddr>>> = Arc::default();
    let (receiver, known) = (socket.try_clone()?, Arc::clone(&senders));
    std::thread::spawn(move || {
        let mut datagram = [0; 2048];
        let mut last = None;
        loop {
            // A closed port of the other side is reported as an error.
            let Ok((count, from)) = receiver.recv_from(&mut datagram) else { continue };
            if count > ACKNOWLEDGEMENT && last != Some(from) {
                last = Some(from);
                known.lock().insert(from);
            }
        }
    });
    std::thread::spawn(move || {
        loop {
            std::thread::sleep(Duration::from_millis(10));
            for sender in &*senders.lock() {
                // The sender may have gone.
                let _sent = socket.send_to(&[0; ACKNOWLEDGEMENT], sender);
            }
        }
    });
    Ok(address)
}
