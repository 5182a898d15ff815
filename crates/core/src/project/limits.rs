//! `[limits]`: what one request may cost. One table has each limit with its default and its bounds.

use super::reader::{Reader, Section};

/// Limits for which 0 means any number.
const ZERO_IS_ANY: &[&str] = &["asks_per_second", "asks_at_once"];

macro_rules! limits {
    ($($(#[$doc:meta])* $name:ident: $number:ty = $default:expr, from $least:literal to $most:expr;)*) => {
        /// `[limits]`: what one request may cost.
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        pub struct Limits {
            $($(#[$doc])* pub $name: $number,)*
        }

        impl Default for Limits {
            fn default() -> Self {
                Limits { $($name: $default,)* }
            }
        }

        impl Limits {
            /// Their names in the file.
            const NAMES: &[&str] = &[$(stringify!($name),)*];

            /// Each limit: its name, its default, and between which numbers it lies.
            pub(super) fn bounds() -> [(&'static str, u64, u64, u64); Limits::NAMES.len()] {
                let default = Limits::default();
                #[allow(clippy::unnecessary_cast, reason = "some of them are 64 bits wide already")]
                let bounds = [$((stringify!($name), default.$name as u64, $least, $most),)*];
                bounds
            }

            /// Each limit by its name, as a number that is larger where it is looser.
            fn entries(&self) -> [(&'static str, u64); Limits::NAMES.len()] {
                #[allow(clippy::unnecessary_cast, reason = "some of them are 64 bits wide already")]
                let entries = [$((stringify!($name), self.$name as u64),)*];
                entries.map(|(name, number)| {
                    (name, if number == 0 && ZERO_IS_ANY.contains(&name) { u64::MAX } else { number })
                })
            }

            /// What the file says; `default` where it says nothing.
            fn read_numbers(reader: &mut Reader<'_>, section: &Section, default: &Limits) -> Limits {
                Limits {
                    $($name: match reader.number(section, stringify!($name), $least, $most) {
                        Some(number) => <$number>::try_from(number).unwrap_or(<$number>::MAX),
                        None => default.$name,
                    },)*
                }
            }
        }
    };
}

limits! {
    /// Rows and filter leaves, estimated from the request's page sizes.
    cost: u64 = 250_000, from 1 to 1_000_000_000;
    /// Rows of one page.
    page: u32 = 500, from 1 to 100_000;
    /// Rows of a page for which the request names no size.
    default_page: u32 = 50, from 1 to 100_000;
    /// Values of one list in a filter.
    list: usize = 1_000, from 1 to 100_000;
    /// Levels of one filter.
    filter_depth: usize = 8, from 1 to 32;
    /// Levels of the selection.
    depth: usize = 20, from 1 to 50;
    /// Statements of one request.
    statements: usize = 200, from 1 to 10_000;
    /// Keys that one filter through a link to another source may take from there.
    cross_keys: u32 = 10_000, from 1 to 100_000;
    /// Bytes of an answer before compression.
    answer_bytes: usize = 16 << 20, from 1_024 to 1_073_741_824;
    /// Bytes of an answer about the schema, which grows with the tables.
    introspection_bytes: usize = 64 << 20, from 1_024 to 1_073_741_824;
    /// Bytes of memory for answers that are being sent; one caller may have a quarter of it, or one answer.
    memory: usize = 128 << 20, from 1_048_576 to 68_719_476_736;
    /// Bytes of a request body.
    body_bytes: usize = 1 << 20, from 1_024 to 268_435_456;
    /// Milliseconds for one request.
    time_ms: u64 = 10_000, from 10 to 3_600_000;
    /// Rows that one bulk change may touch, and rows that one mutation may create.
    changes: usize = 10_000, from 1 to 1_000_000;
    /// Milliseconds for a rehearsal, which keeps others waiting for the rows that it locks.
    rehearse_ms: u64 = 2_000, from 10 to 600_000;
    /// Requests in one list of requests, which are answered out of one budget; 1, lists are refused.
    batch: usize = 1, from 1 to 1_000;
    /// Requests that one caller may begin in a second, on average; 0, any number.
    asks_per_second: u32 = 0, from 0 to 1_000_000;
    /// Requests of one caller that may run or wait at once; 0, any number.
    asks_at_once: u32 = 0, from 0 to 1_000_000;
}

impl Limits {
    /// A limit that is looser than the other's, with both numbers.
    pub(super) fn looser_than(&self, other: &Limits) -> Option<(&'static str, u64, u64)> {
        let pairs = self.entries().into_iter().zip(other.entries());
        pairs.map(|((name, own), (_, other))| (name, own, other)).find(|(_, own, other)| own > other)
    }
}

pub(super) fn read_limits(reader: &mut Reader<'_>, section: &Section, default: &Limits) -> Limits {
    reader.only(section, Limits::NAMES);
    let limits = Limits::read_numbers(reader, section, default);
    if limits.default_page > limits.page && section.has("default_page") {
        let text = format!("default_page {} is over page {}; lower it", limits.default_page, limits.page);
        reader.mistake_at(section, "default_page", text);
    }
    Limits { default_page: limits.default_page.min(limits.page), ..limits }
}
