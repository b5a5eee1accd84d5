//! Text of preflight checks.

use yonder_api::Check;
use yonder_core::preflight::CheckStatus;

use crate::style::{Tone, colorize};

/// Formats checks by subject, each with its reason and next step.
pub(crate) fn checks_text(checks: &[Check], color: bool) -> String {
    let mut text = String::new();
    let mut subject = None;
    for check in checks {
        if subject != Some(&check.subject) {
            text += &format!("\n  {}\n", check.subject);
            subject = Some(&check.subject);
        }
        let level = colorize(&format!("{:<4}", check.level.as_str()), tone(check.level), color);
        text += &format!("    {level}  {:<18} {}\n", check.check, check.reason);
        if let Some(step) = &check.next_step {
            text += &format!("          {:<18} {}\n", "", colorize(step, Tone::Quiet, color));
        }
    }
    text
}

fn tone(level: CheckStatus) -> Tone {
    match level {
        CheckStatus::Pass => Tone::Good,
        CheckStatus::Warn => Tone::Wait,
        CheckStatus::Fail => Tone::Bad,
    }
}
