//! G.711 (ITU-T G.711): eight bits a sample, in one of two laws. Carried as it is, never decoded.

/// How amplitudes become eight bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Law {
    /// A-law, usual in Europe (RTP payload type 8).
    A,
    /// µ-law, usual in America and Japan (RTP payload type 0).
    Mu,
}

impl Law {
    /// The sample that stands for silence.
    #[must_use]
    pub fn silence(self) -> u8 {
        match self {
            Self::A => 0xd5,
            Self::Mu => 0xff,
        }
    }
}
