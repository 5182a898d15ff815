//! Running plans and changes over a source, whatever its engine.
//!
//! ```text
//! connector   what every source can do; requests to it
//! levels      the walk over a plan that is read level by level
//! parts       a plan over several sources
//! snapshot    one source of those: what it reads, and holds
//! change      the interpreter of mutations: steps, which a session puts into its own language
//! turns       who is next at whatever is scarce
//! survey      what a survey brings home, and who watches it
//! report      what a source tells beside the answer
//! ```

pub mod change;
mod connector;
pub mod levels;
pub mod parts;
mod report;
pub mod snapshot;
mod survey;
pub mod turns;

pub use connector::{ChangeRequest, Connector, Prepared, Request, Source};
pub use report::{Explanation, Outcome, Rest, RootAnswer, StatementReport};
pub use survey::{Survey, SurveyStep, SurveyWatch};
