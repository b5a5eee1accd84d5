//! Surveys: measurement of a stream over some seconds, and advice on the results.

mod advice;
mod meter;

pub use advice::{Advice, SourceKind, SurveyedStream, advise};
pub use meter::{Intervals, Measured, SurveyMeter};
