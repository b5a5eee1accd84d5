//! Silent frames, written bit by bit from the syntax (ISO/IEC 14496-3, 4.4.2): no channel has a scale factor band or a
//! spectrum, so a decoder outputs zeros.

use bytes::Bytes;

use crate::bits::BitWriter;

use super::AudioSpecificConfig;

/// `id_syn_ele` (table 4.85).
const SINGLE: u32 = 0;
const PAIR: u32 = 1;
const LOW_FREQUENCY: u32 = 3;
const END: u32 = 7;

/// Returns a silent access unit for a stream with this configuration; `None` if its channels are described in-band or
/// its coder has another syntax.
#[must_use]
pub fn silent_frame(config: &AudioSpecificConfig) -> Option<Bytes> {
    // Main, LC, SSR and LTP. SBR and PS have an LC core, and their extension is optional in a frame.
    if !matches!(config.object_type, 1..=5 | 29) {
        return None;
    }
    // Table 1.19.
    let elements: &[u32] = match config.channels {
        1 => &[SINGLE],
        2 => &[PAIR],
        3 => &[SINGLE, PAIR],
        4 => &[SINGLE, PAIR, SINGLE],
        5 => &[SINGLE, PAIR, PAIR],
        6 => &[SINGLE, PAIR, PAIR, LOW_FREQUENCY],
        8 => &[SINGLE, PAIR, PAIR, PAIR, LOW_FREQUENCY],
        _ => return None,
    };
    let mut bits = BitWriter::default();
    for (at, element) in elements.iter().enumerate() {
        let tag = elements.iter().take(at).filter(|earlier| *earlier == element).count();
        bits.put(*element, 3);
        bits.put(u32::try_from(tag).unwrap_or_default(), 4);
        if *element == PAIR {
            bits.put(1, 1); // common_window
            ics_info(&mut bits);
            bits.put(0, 2); // ms_mask_present
            channel(&mut bits, false);
            channel(&mut bits, false);
        } else {
            channel(&mut bits, true);
        }
    }
    bits.put(END, 3);
    Some(bits.finish().into())
}

/// `individual_channel_stream` without a spectrum.
fn channel(bits: &mut BitWriter, with_info: bool) {
    bits.put(0, 8); // global_gain
    if with_info {
        ics_info(bits);
    }
    bits.put(0, 3); // pulse_data_present, tns_data_present, gain_control_data_present
}

/// `ics_info` of one long window without scale factor bands.
fn ics_info(bits: &mut BitWriter) {
    bits.put(0, 1 + 2 + 1); // ics_reserved_bit, window_sequence, window_shape
    bits.put(0, 6); // max_sfb
    bits.put(0, 1); // predictor_data_present
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use symphonia_codec_aac::AacDecoder;
    use symphonia_core::audio::{Channels, layouts};
    use symphonia_core::codecs::audio::well_known::CODEC_ID_AAC;
    use symphonia_core::codecs::audio::{AudioCodecParameters, AudioDecoder, AudioDecoderOptions};
    use symphonia_core::packet::Packet;
    use symphonia_core::units::{Duration, Timestamp};

    fn config(object_type: u8, channels: u8) -> AudioSpecificConfig {
        AudioSpecificConfig { object_type, sample_rate: 48_000, channels }
    }

    #[test]
    fn one_channel_is_thirty_two_bits() {
        // SCE, tag 0, gain 0, info of zeros, flags of zeros, END.
        assert_eq!(&silent_frame(&config(2, 1)).unwrap()[..], [0, 0, 0, 0b0000_0111]);
    }

    #[rstest]
    #[case::mono(&[0x11, 0x88], layouts::CHANNEL_LAYOUT_MONO)]
    #[case::stereo(&[0x11, 0x90], layouts::CHANNEL_LAYOUT_STEREO)]
    fn frame_decodes_to_silence(#[case] specific: &[u8], #[case] layout: Channels) {
        let frame = silent_frame(&AudioSpecificConfig::parse(specific).unwrap()).unwrap();
        let mut parameters = AudioCodecParameters::new();
        parameters.for_codec(CODEC_ID_AAC).with_sample_rate(48_000).with_channels(layout);
        parameters.with_extra_data(specific.into());
        let mut decoder = AacDecoder::try_new(&parameters, &AudioDecoderOptions::default()).unwrap();
        for at in 0..3 {
            let packet = Packet::new(0, Timestamp::new(at * 1_024), Duration::new(1_024), frame.to_vec());
            let decoded = decoder.decode(&packet).unwrap();
            assert_eq!(decoded.frames(), 1_024);
            let mut samples = Vec::<f32>::new();
            decoded.copy_to_vec_interleaved(&mut samples);
            assert!(samples.iter().all(|sample| *sample == 0.0));
        }
    }

    #[rstest]
    #[case::channels_in_band(2, 0)]
    #[case::low_delay(39, 2)]
    fn unsupported_configuration_has_no_silent_frame(#[case] object_type: u8, #[case] channels: u8) {
        assert_eq!(silent_frame(&config(object_type, channels)), None);
    }

    /// An SCE or LFE takes 29 bits, a pair 43, the end 3.
    #[rstest]
    #[case(3, 29 + 43 + 3)]
    #[case(4, 2 * 29 + 43 + 3)]
    #[case(6, 2 * 29 + 2 * 43 + 3)]
    #[case(8, 2 * 29 + 3 * 43 + 3)]
    fn more_channels_are_more_elements(#[case] channels: u8, #[case] bits: usize) {
        assert_eq!(silent_frame(&config(2, channels)).unwrap().len(), bits.div_ceil(8));
    }
}
