//! Deviations of devices when an encoder is configured.

/// Deviation of a device when an encoder is configured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum EncoderQuirk {
    /// It applies what it accepts.
    #[default]
    None,
    /// It refuses every change.
    Refuses,
    /// The account may not change anything.
    ReadOnly,
    /// It rounds bit rates to 1 024 kbit/s, and keyframe intervals to seconds.
    Rounds,
    /// It stores the change, and applies it when it is restarted.
    NeedsRestart,
    /// It changes another profile.
    OtherProfile,
    /// It changes another profile once, and the right one afterwards.
    OtherProfileOnce,
    /// It confirms the change, and does nothing.
    Ignores,
}

impl EncoderQuirk {
    /// Returns the quirk of this name: `none`, `refuses`, `read-only`, `rounds`, `restart`, `elsewhere`,
    /// `elsewhere-once`, `ignores`.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        Some(match name {
            "none" => Self::None,
            "refuses" => Self::Refuses,
            "read-only" => Self::ReadOnly,
            "rounds" => Self::Rounds,
            "restart" => Self::NeedsRestart,
            "elsewhere" => Self::OtherProfile,
            "elsewhere-once" => Self::OtherProfileOnce,
            "ignores" => Self::Ignores,
            _ => return None,
        })
    }
}
