//! The console in headless Chromium, against a running service. Things are found by role and name, as assistive technology sees them.
//!
//! With `PUENTE_SCREENSHOTS=DIR` the pages that are seen on the way are kept as pictures.

mod ask;
mod diagram;
mod driving;
mod edits;
mod keyboard;
mod pages;
mod states;
mod way;
