//! Selection of one program: the first of the association table that has video.

use crate::stream::VideoCodec;

use super::section::{ProgramMap, StreamType};

/// Maximum programs of a stream.
const MAX_PROGRAMS: usize = 16;

/// Streams of the selected program.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Selection {
    pub(super) pcr_pid: Option<u16>,
    pub(super) video: Option<(VideoCodec, u16)>,
    pub(super) audio: Option<(StreamType, u16)>,
    /// Type of an audio or video stream that is not supported, if there is no supported one.
    pub(super) unsupported: Option<u8>,
}

impl Selection {
    fn of(map: &ProgramMap) -> Self {
        let video = map.streams.iter().find_map(|(kind, pid)| match kind {
            StreamType::H264 => Some((VideoCodec::H264, *pid)),
            StreamType::H265 => Some((VideoCodec::H265, *pid)),
            StreamType::Adts | StreamType::Latm | StreamType::Other(_) => None,
        });
        let is_audio = |kind: &StreamType| matches!(kind, StreamType::Adts | StreamType::Latm);
        let audio = map.streams.iter().find(|(kind, _)| is_audio(kind)).copied();
        let unsupported = map.streams.iter().find_map(|(kind, _)| match kind {
            StreamType::Other(number) if video.is_none() && is_video(*number) => Some(*number),
            StreamType::Other(number) if audio.is_none() && is_sound(*number) => Some(*number),
            _ => None,
        });
        Self { pcr_pid: Some(map.pcr_pid), video, audio, unsupported }
    }
}

/// Returns true for video of another codec: MPEG-1, MPEG-2, MPEG-4 part 2, VVC (table 2-34).
fn is_video(number: u8) -> bool {
    matches!(number, 0x01 | 0x02 | 0x10 | 0x33)
}

/// Returns true for audio of another codec: MPEG-1 and MPEG-2, and the numbers in use for AC-3 and E-AC-3.
fn is_sound(number: u8) -> bool {
    matches!(number, 0x03 | 0x04 | 0x81 | 0x87)
}

/// Programs of a transport stream, in the order of the association table.
#[derive(Debug, Default)]
pub(super) struct Programs {
    maps: Vec<(u16, Option<ProgramMap>)>,
    /// PID of the selected program's map.
    selected: Option<u16>,
}

impl Programs {
    /// Returns true if the PID has a program map.
    pub(super) fn has_map(&self, pid: u16) -> bool {
        self.maps.iter().any(|(map_pid, _)| *map_pid == pid)
    }

    /// Sets the PIDs of the maps. Known maps of programs that stay are kept.
    pub(super) fn set_association(&mut self, pids: &[u16]) {
        let known = std::mem::take(&mut self.maps);
        let map_of =
            |pid: &u16| known.iter().find(|(known, _)| known == pid).and_then(|(_, map)| map.clone());
        self.maps = pids.iter().take(MAX_PROGRAMS).map(|pid| (*pid, map_of(pid))).collect();
        self.selected = self.selected.filter(|pid| self.has_map(*pid));
    }

    /// Sets a map, and returns the streams of the selected program; `None` while none is selected.
    pub(super) fn set_map(&mut self, pid: u16, map: ProgramMap) -> Option<Selection> {
        let (_, known) = self.maps.iter_mut().find(|(map_pid, _)| *map_pid == pid)?;
        *known = Some(map);
        self.select()
    }

    fn select(&mut self) -> Option<Selection> {
        let of = |pid: u16| {
            let (_, map) = self.maps.iter().find(|(map_pid, _)| *map_pid == pid)?;
            map.as_ref().map(Selection::of)
        };
        // The selected program stays while it has video.
        if let Some(selection) = self.selected.and_then(of).filter(|selection| selection.video.is_some()) {
            return Some(selection);
        }
        let known = || self.maps.iter().filter_map(|(pid, _)| Some((*pid, of(*pid)?)));
        let with_video = known().find(|(_, selection)| selection.video.is_some());
        // Programs without video are only used once none is left that may have some.
        let all_known = self.maps.iter().all(|(_, map)| map.is_some());
        let (pid, selection) = with_video.or_else(|| known().next().filter(|_| all_known))?;
        self.selected = Some(pid);
        Some(selection)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn map(streams: &[(StreamType, u16)]) -> ProgramMap {
        ProgramMap { pcr_pid: 0x100, streams: streams.to_vec() }
    }

    #[test]
    fn first_program_with_video_is_selected_and_kept() {
        let mut programs = Programs::default();
        programs.set_association(&[0x20, 0x21, 0x22]);
        let radio = map(&[(StreamType::Adts, 0x200)]);
        assert_eq!(programs.set_map(0x20, radio), None);
        let second = programs.set_map(0x22, map(&[(StreamType::H264, 0x220)])).unwrap();
        assert_eq!(second.video, Some((VideoCodec::H264, 0x220)));
        // An earlier program with video that is known later does not replace it.
        let still = programs.set_map(0x21, map(&[(StreamType::H265, 0x210)])).unwrap();
        assert_eq!(still.video, Some((VideoCodec::H264, 0x220)));
        programs.set_association(&[0x20, 0x21]);
        let next = programs.set_map(0x21, map(&[(StreamType::H265, 0x210)])).unwrap();
        assert_eq!(next.video, Some((VideoCodec::H265, 0x210)));
    }

    #[test]
    fn program_without_video_is_selected_if_there_is_no_other() {
        let mut programs = Programs::default();
        programs.set_association(&[0x20]);
        let radio = programs.set_map(0x20, map(&[(StreamType::Other(6), 0x1f), (StreamType::Latm, 0x200)]));
        assert_eq!(radio.unwrap().audio, Some((StreamType::Latm, 0x200)));
    }

    #[test]
    fn unsupported_codecs_are_named_and_private_data_is_not() {
        let of = |streams| Selection::of(&map(streams)).unsupported;
        assert_eq!(of(&[(StreamType::Other(2), 1), (StreamType::Adts, 2)]), Some(2));
        assert_eq!(of(&[(StreamType::H264, 1), (StreamType::Other(0x81), 2)]), Some(0x81));
        assert_eq!(of(&[(StreamType::H264, 1), (StreamType::Adts, 3), (StreamType::Other(3), 2)]), None);
        assert_eq!(of(&[(StreamType::H264, 1), (StreamType::Other(6), 2)]), None);
    }
}
