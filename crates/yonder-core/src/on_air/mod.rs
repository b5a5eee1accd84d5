//! On-air windows in a named time zone, and rollovers at a quiet minute.

mod rollover;
mod schedule;
mod window;

pub use rollover::{QuietMinute, rollover_at};
pub use schedule::{Schedule, ScheduleError};
pub use window::{Window, WindowError};
