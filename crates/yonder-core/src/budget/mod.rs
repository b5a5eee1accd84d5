//! Budget: arithmetic of bit rates, uplinks and monthly traffic. Pure: the caller supplies the figures.

mod fits;
mod month;
mod overhead;
mod plan;
mod share;
mod units;

pub use fits::{Fit, FitRow, what_fits};
pub use month::{Month, Traffic};
pub use overhead::{on_wire_kbps, with_ip_headers};
pub use plan::{
    Audience, Budget, BudgetVerdict, Load, Loads, Pull, Push, Uplink, UplinkBudget, WhatIf, budget,
};
pub use share::shares;
pub use units::{BitRate, UnitError, Volume};
