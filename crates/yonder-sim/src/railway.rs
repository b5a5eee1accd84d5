//! The cameras of the Hollow Fell Light Railway, with the scenes that ship with the program.

use bytes::Bytes;
use yonder_media::VideoCodec;
use yonder_media::g711::Law;

use crate::media::LoopMedia;

/// One of the railway's feeds.
#[derive(Debug, Clone, Copy)]
pub struct RailwayFeed {
    /// Name of the feed.
    pub name: &'static str,
    /// Path of its main stream.
    pub path: &'static str,
    picture: &'static [u8],
    audio: SceneAudio,
    /// Path and video of its sub stream.
    sub: Option<(&'static str, &'static [u8])>,
}

/// Audio of a scene.
#[derive(Debug, Clone, Copy)]
enum SceneAudio {
    None,
    /// ADTS file.
    Aac(&'static [u8]),
    /// A low tone.
    G711(Law),
}

impl RailwayFeed {
    /// Returns the main stream.
    ///
    /// # Panics
    /// When a file that ships with the program cannot be played; a test plays them all.
    #[must_use]
    #[expect(clippy::expect_used, reason = "the files are part of the program and tested with it")]
    pub fn main(&self) -> LoopMedia {
        let aac = match self.audio {
            SceneAudio::Aac(file) => Some(Bytes::from_static(file)),
            SceneAudio::None | SceneAudio::G711(_) => None,
        };
        let media = LoopMedia::parse(VideoCodec::H264, &Bytes::from_static(self.picture), aac.as_ref())
            .expect("shipped media can be played");
        match self.audio {
            SceneAudio::G711(law) => media.with_g711(law),
            SceneAudio::None | SceneAudio::Aac(_) => media,
        }
    }

    /// Path of the sub stream and the stream, where there is one.
    ///
    /// # Panics
    /// As [`RailwayFeed::main`].
    #[must_use]
    #[expect(clippy::expect_used, reason = "the files are part of the program and tested with it")]
    pub fn sub(&self) -> Option<(&'static str, LoopMedia)> {
        let (path, picture) = self.sub?;
        Some((
            path,
            LoopMedia::parse(VideoCodec::H264, &Bytes::from_static(picture), None)
                .expect("shipped media can be played"),
        ))
    }
}

/// Returns the tunnel mouth's camera: H.265 with two slices a picture and reordering, and G.711.
///
/// # Panics
/// As [`RailwayFeed::main`].
#[must_use]
#[expect(clippy::expect_used, reason = "the file is part of the program and tested with it")]
pub fn tunnel_media() -> LoopMedia {
    let picture = Bytes::from_static(include_bytes!("../../../demo/media/viaduct-hevc.h265"));
    LoopMedia::parse(VideoCodec::H265, &picture, None)
        .expect("shipped media can be played")
        .with_g711(Law::Mu)
}

/// Returns all feeds of the railway.
#[must_use]
pub fn railway_feeds() -> [RailwayFeed; 6] {
    [
        RailwayFeed {
            name: "Summit Station",
            path: "/summit/main",
            picture: include_bytes!("../../../demo/media/summit-main.h264"),
            audio: SceneAudio::Aac(include_bytes!("../../../demo/media/summit-main.aac")),
            sub: Some(("/summit/sub", include_bytes!("../../../demo/media/summit-sub.h264"))),
        },
        RailwayFeed {
            name: "Viaduct",
            path: "/viaduct/main",
            picture: include_bytes!("../../../demo/media/viaduct.h264"),
            audio: SceneAudio::None,
            sub: None,
        },
        RailwayFeed {
            name: "Engine Shed",
            path: "/shed/main",
            picture: include_bytes!("../../../demo/media/engine-shed.h264"),
            audio: SceneAudio::None,
            sub: None,
        },
        RailwayFeed {
            name: "Bandstand",
            path: "/bandstand",
            picture: include_bytes!("../../../demo/media/bandstand.h264"),
            audio: SceneAudio::Aac(include_bytes!("../../../demo/media/bandstand.aac")),
            sub: None,
        },
        RailwayFeed {
            name: "Level Crossing",
            path: "/crossing",
            picture: include_bytes!("../../../demo/media/level-crossing.h264"),
            audio: SceneAudio::None,
            sub: None,
        },
        RailwayFeed {
            name: "Signal Box",
            path: "/box",
            picture: include_bytes!("../../../demo/media/engine-shed.h264"),
            audio: SceneAudio::G711(Law::A),
            sub: None,
        },
    ]
}
