//! Transcoder of a feed's frames to those of a rendition.

use std::sync::Arc;

use yonder_media::{AccessUnit, Frame, Payload, StreamHeaders, Track};

use crate::audio::{AudioTarget, AudioTranscoder, EncodedFrame};
use crate::error::CodecError;
use crate::interleaver::Interleaver;
use crate::video::{EncodedPicture, VideoTarget, VideoTranscoder};

/// Formats of a rendition; `None` for a track that is passed on as it is.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct RenditionTarget {
    /// Video.
    pub video: Option<VideoTarget>,
    /// Audio.
    pub audio: Option<AudioTarget>,
}

/// Transcoder of a feed to one rendition: encodes or passes on each track, and interleaves both.
///
/// Timestamps stay on the feed's clock. Headers of the rendition change only if its own streams change: a feed whose audio
/// begins, ends or changes its codec is continued without new headers.
#[derive(Debug)]
pub struct RenditionTranscoder {
    video: Option<VideoTranscoder>,
    audio: Option<AudioTranscoder>,
    interleaver: Interleaver,
    /// Headers of the feed's last frame.
    feed: Option<Arc<StreamHeaders>>,
    /// Last headers of the rendition.
    headers: Option<Arc<StreamHeaders>>,
}

impl RenditionTranscoder {
    /// Creates a transcoder.
    ///
    /// # Errors
    /// [`CodecError::UnsupportedTarget`].
    pub fn new(target: RenditionTarget) -> Result<Self, CodecError> {
        Ok(Self {
            video: target.video.map(VideoTranscoder::new),
            audio: target.audio.map(AudioTranscoder::new).transpose()?,
            interleaver: Interleaver::default(),
            feed: None,
            headers: None,
        })
    }

    /// Handles a frame of the feed. Without audio in the feed, silence is encoded along with its video.
    ///
    /// # Errors
    /// [`CodecError`] if the feed cannot be decoded, or an encoder fails. The transcoder should be replaced then.
    pub fn push(&mut self, frame: &Frame) -> Result<(), CodecError> {
        self.handle_headers(&frame.headers)?;
        let unit = &frame.unit;
        match (unit.track, &unit.payload) {
            (Track::Video, _) => {
                match &mut self.video {
                    Some(video) => video.push(unit)?,
                    None => self.pass(unit.clone(), &frame.headers),
                }
                if let Some(audio) = &mut self.audio {
                    audio.fill_until(unit.dts)?;
                }
            }
            (Track::Audio, Payload::Frame(data)) => match &mut self.audio {
                Some(audio) => audio.push(unit.pts, data)?,
                None => self.pass(unit.clone(), &frame.headers),
            },
            // Audio frames are never split into NAL units.
            (Track::Audio, Payload::Nals(_)) => {}
        }
        self.collect(&frame.headers);
        Ok(())
    }

    /// Handles a video frame that is not to be transcoded: silence is encoded beyond it, so that the audio has no gap. Video
    /// continues with the next keyframe that is pushed.
    ///
    /// # Errors
    /// [`CodecError`] if an encoder fails. The transcoder should be replaced then.
    pub fn skip(&mut self, frame: &Frame) -> Result<(), CodecError> {
        self.handle_headers(&frame.headers)?;
        if let Some(audio) = &mut self.audio {
            audio.fill_until(frame.unit.dts)?;
        }
        self.collect(&frame.headers);
        Ok(())
    }

    /// Changes the bit rate of the video, in kilobits per second.
    ///
    /// # Errors
    /// [`CodecError::VideoEncoder`].
    pub fn set_video_kbps(&mut self, kbps: u32) -> Result<(), CodecError> {
        self.video.as_mut().map_or(Ok(()), |video| video.set_kbps(kbps))
    }

    /// Returns the next frame of the rendition.
    pub fn next_frame(&mut self) -> Option<Arc<Frame>> {
        self.interleaver.next_frame()
    }

    fn handle_headers(&mut self, feed: &Arc<StreamHeaders>) -> Result<(), CodecError> {
        if self.feed.as_ref().is_some_and(|known| Arc::ptr_eq(known, feed)) {
            return Ok(());
        }
        if let (Some(video), Some(config)) = (&mut self.video, &feed.video) {
            video.set_source(config)?;
        }
        if let Some(audio) = &mut self.audio {
            audio.set_source(feed.audio.as_ref())?;
        }
        self.feed = Some(Arc::clone(feed));
        Ok(())
    }

    /// Moves what was encoded to the interleaver.
    fn collect(&mut self, feed: &StreamHeaders) {
        while let Some(picture) = self.video.as_mut().and_then(VideoTranscoder::next_picture) {
            let EncodedPicture { pts, is_keyframe: keyframe, nals } = picture;
            let unit =
                AccessUnit { track: Track::Video, dts: pts, pts, keyframe, payload: Payload::Nals(nals) };
            self.pass(unit, feed);
        }
        while let Some(EncodedFrame { pts, data }) = self.audio.as_mut().and_then(AudioTranscoder::next_frame)
        {
            let payload = Payload::Frame(data);
            self.pass(AccessUnit { track: Track::Audio, dts: pts, pts, keyframe: true, payload }, feed);
        }
    }

    /// Adds a unit to the rendition. It is dropped before the first encoded picture, without which it cannot be shown.
    fn pass(&mut self, unit: AccessUnit, feed: &StreamHeaders) {
        let video = match &self.video {
            Some(video) => video.config().cloned(),
            None => feed.video.clone(),
        };
        if self.video.is_some() && video.is_none() {
            return;
        }
        let audio = self.audio.as_ref().map(|audio| audio.config().clone()).or_else(|| feed.audio.clone());
        let headers = StreamHeaders { video, audio };
        let headers = match &self.headers {
            Some(known) if **known == headers => Arc::clone(known),
            _ => Arc::clone(self.headers.insert(Arc::new(headers))),
        };
        self.interleaver.push(Arc::new(Frame::new(unit, headers)));
    }
}

#[cfg(test)]
mod tests {
    use bytes::Bytes;
    use rstest::rstest;
    use yonder_media::g711::Law;
    use yonder_media::{AudioConfig, TICKS_PER_SECOND};

    use super::*;

    const TARGET: RenditionTarget = RenditionTarget {
        video: None,
        audio: Some(AudioTarget { sample_rate: 48_000, channels: 1, kbps: 64 }),
    };
    const FRAME: i64 = TICKS_PER_SECOND / 25;
    const PACKET: i64 = TICKS_PER_SECOND / 50;

    fn g711(law: Law) -> Arc<StreamHeaders> {
        let audio = AudioConfig::G711 { law, sample_rate: 8_000, channels: 1 };
        Arc::new(StreamHeaders { video: None, audio: Some(audio) })
    }

    fn video(number: i64, headers: &Arc<StreamHeaders>) -> Frame {
        let payload = Payload::Nals(vec![Bytes::from_static(&[0x65, 1])]);
        let dts = number * FRAME;
        let unit = AccessUnit { track: Track::Video, dts, pts: dts, keyframe: number % 50 == 0, payload };
        Frame::new(unit, Arc::clone(headers))
    }

    fn audio(number: i64, law: Law, headers: &Arc<StreamHeaders>) -> Frame {
        let payload = Payload::Frame(vec![law.silence(); 160].into());
        let dts = number * PACKET;
        Frame::new(
            AccessUnit { track: Track::Audio, dts, pts: dts, keyframe: true, payload },
            Arc::clone(headers),
        )
    }

    fn made(transcoder: &mut RenditionTranscoder) -> Vec<Arc<Frame>> {
        std::iter::from_fn(|| transcoder.next_frame()).collect()
    }

    /// Checks that audio covers the time from its first frame on without a gap or an overlap, and returns the number of its
    /// frames.
    fn continuous_audio(frames: &[Arc<Frame>]) -> usize {
        let times: Vec<i64> = frames
            .iter()
            .filter(|frame| frame.unit.track == Track::Audio)
            .map(|frame| frame.unit.dts)
            .collect();
        assert!(times.windows(2).all(|pair| (1_919..=1_921).contains(&(pair[1] - pair[0]))), "{times:?}");
        times.len()
    }

    #[rstest]
    #[case::a_law(Law::A)]
    #[case::mu_law(Law::Mu)]
    fn both_tracks_are_interleaved_on_the_clock_of_the_feed(#[case] law: Law) {
        let mut transcoder = RenditionTranscoder::new(TARGET).unwrap();
        let headers = g711(law);
        let mut frames = Vec::new();
        for number in 0..500 {
            transcoder.push(&video(number, &headers)).unwrap();
            for packet in [2 * number, 2 * number + 1] {
                transcoder.push(&audio(packet, law, &headers)).unwrap();
            }
            frames.extend(made(&mut transcoder));
        }
        assert!(frames.windows(2).all(|pair| pair[1].unit.dts >= pair[0].unit.dts), "in order");
        let videos: Vec<i64> = frames
            .iter()
            .filter(|frame| frame.unit.track == Track::Video)
            .map(|frame| frame.unit.dts)
            .collect();
        assert!(videos.len() > 490 && videos.iter().zip(0..).all(|(dts, number)| *dts == number * FRAME));
        assert!(continuous_audio(&frames) > 920);
        assert!(frames.iter().all(|frame| Arc::ptr_eq(&frame.headers, &frames[0].headers)));
        assert_eq!(frames[0].headers.audio.as_ref().unwrap().codec_name(), "AAC");
    }

    #[test]
    fn feed_without_audio_has_silence_without_delay_of_its_video() {
        let mut transcoder = RenditionTranscoder::new(TARGET).unwrap();
        let headers: Arc<StreamHeaders> = Arc::default();
        let mut frames = Vec::new();
        for number in 0..250 {
            transcoder.push(&video(number, &headers)).unwrap();
            let now = made(&mut transcoder);
            assert!(
                now.iter().any(
                    |frame| frame.unit.dts == number * FRAME && frame.is_keyframe() == (number % 50 == 0)
                )
            );
            frames.extend(now);
        }
        assert!(continuous_audio(&frames) >= 10 * 48_000 / 1_024);
    }

    #[rstest]
    #[case::silence(None)]
    #[case::audio(Some(Law::A))]
    fn audio_continues_while_video_is_skipped(#[case] law: Option<Law>) {
        let mut transcoder = RenditionTranscoder::new(TARGET).unwrap();
        let headers = law.map_or_else(Arc::default, g711);
        let mut frames = Vec::new();
        for number in 0..500 {
            if (100..350).contains(&number) {
                transcoder.skip(&video(number, &headers)).unwrap();
            } else {
                transcoder.push(&video(number, &headers)).unwrap();
            }
            if let Some(law) = law {
                for packet in [2 * number, 2 * number + 1] {
                    transcoder.push(&audio(packet, law, &headers)).unwrap();
                }
            }
            frames.extend(made(&mut transcoder));
        }
        assert!(frames.windows(2).all(|pair| pair[1].unit.dts >= pair[0].unit.dts), "in order");
        assert!(continuous_audio(&frames) > 920);
        let is_skipped = |frame: &&Arc<Frame>| {
            frame.unit.track == Track::Video && (100 * FRAME..350 * FRAME).contains(&frame.unit.dts)
        };
        assert_eq!(frames.iter().filter(is_skipped).count(), 0);
    }

    #[test]
    fn headers_stay_when_audio_begins_changes_and_ends() {
        let mut transcoder = RenditionTranscoder::new(TARGET).unwrap();
        let mut frames = Vec::new();
        let phases = [None, Some(Law::A), Some(Law::Mu), None];
        for (phase, law) in (0..).zip(phases) {
            let headers = law.map_or_else(Arc::default, g711);
            for number in phase * 100..(phase + 1) * 100 {
                transcoder.push(&video(number, &headers)).unwrap();
                if let Some(law) = law {
                    for packet in [2 * number, 2 * number + 1] {
                        transcoder.push(&audio(packet, law, &headers)).unwrap();
                    }
                }
                frames.extend(made(&mut transcoder));
            }
        }
        assert!(frames.iter().all(|frame| Arc::ptr_eq(&frame.headers, &frames[0].headers)));
        assert!(continuous_audio(&frames) > 15 * 48_000 / 1_024);
    }

    /// The camera restarts: half a minute without any frame, then its clock continues.
    #[test]
    fn audio_continues_after_an_absence() {
        let mut transcoder = RenditionTranscoder::new(TARGET).unwrap();
        let headers = g711(Law::A);
        let mut frames = Vec::new();
        for number in (0..100).chain(850..950) {
            transcoder.push(&video(number, &headers)).unwrap();
            for packet in [2 * number, 2 * number + 1] {
                transcoder.push(&audio(packet, Law::A, &headers)).unwrap();
            }
            frames.extend(made(&mut transcoder));
        }
        let last = frames.iter().rev().find(|frame| frame.unit.track == Track::Audio).unwrap().unit.dts;
        assert!(last > 945 * FRAME, "{last}");
        let after: Vec<i64> = frames
            .iter()
            .filter(|frame| frame.unit.track == Track::Audio && frame.unit.dts > 200 * FRAME)
            .map(|frame| frame.unit.dts)
            .collect();
        // From the first frame on.
        assert!((after[0] - 850 * FRAME).abs() < 6_000, "{}", after[0] - 850 * FRAME);
    }
}
