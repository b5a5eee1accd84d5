//! Public pages of signposts: a listener of its own, on threads of its own, without cookies, sign-in, console or API.
//!
//! | address | contents |
//! |---|---|
//! | `/w/ALIAS` | page with the own player, or a link to the watch page at a platform |
//! | `/w/ALIAS/embed` | the same for an iframe |
//! | `/w/ALIAS/go` | redirect to the live watch page, else to the page |
//! | `/w/ALIAS/status` | availability of today, if the signpost has this page |
//! | `/w/ALIAS/state` | state for the page's script |
//! | `/w/ALIAS/live.m3u8` and files named in it | HLS stream |
//! | `/assets/…` | script and style sheet |

mod assets;
mod limits;
mod media;
mod pages;
mod request;
mod respond;
mod server;
mod status;

pub use server::{PublicConfig, PublicError, PublicServer};
