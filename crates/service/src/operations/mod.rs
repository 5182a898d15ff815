//! What is done to a project beside asking: by the command line, and by the console over `/project/…`. Each is here once.

pub(crate) mod access;
pub(crate) mod check;
pub(crate) mod edit;
mod evidence;
pub(crate) mod overview;
pub(crate) mod seen;
pub(crate) mod sheet;
pub(crate) mod source;
pub(crate) mod survey;
pub(crate) mod surveyed;
mod visible_rows;

pub use access::{WhoLine, field_names, has_field, who_can};
pub use check::{Finding, FindingKind, check, check_key_set, find_drift};
pub use survey::{Accepted, SourceOutcome, SurveyError, SurveyOutcome, accept, survey, survey_afresh};
pub use visible_rows::{Visible, visible_rows};
