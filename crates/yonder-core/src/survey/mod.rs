//! Surveys: what a stream is, measured over some seconds, and what a practitioner would say about it.

mod advice;
mod meter;

pub use advice::{Advice, SurveyedStream, advise};
pub use meter::{Intervals, Measured, SurveyMeter};
