//! G.711 (ITU-T G.711): eight bits per sample in one of two laws. It is relayed without decoding.

/// Companding law.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Law {
    /// A-law, common in Europe (RTP payload type 8).
    A,
    /// µ-law, common in America and Japan (RTP payload type 0).
    Mu,
}

impl Law {
    /// Returns the sample value of silence.
    #[must_use]
    pub fn silence(self) -> u8 {
        match self {
            Self::A => 0xd5,
            Self::Mu => 0xff,
        }
    }
}
