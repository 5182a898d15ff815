//! The oracle: a plain, slow interpreter of requests and rules over rows in memory, and random worlds to try it on.
//!
//! It shares no code with planning, SQL or the JSON writer. Random databases, views and requests run on Puente and on the
//! oracle; the answers must be equal byte for byte. Every case follows from a seed.

mod apply;
mod ask;
mod change;
mod grants;
mod interpret;
mod json;
mod json_change;
mod rule;
mod summary;
mod world;

pub use apply::Expected;
pub use ask::{Random, random_ask};
pub use change::{RandomChange, random_change};
pub use grants::{Granted, ROLE, random_grants};
pub use interpret::{Interpreter, open_cursors};
pub use json_change::canonical;
pub use world::World;
