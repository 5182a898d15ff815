//! Numbers that rules calculate: exactly, as decimals, whatever the engine would do by itself.
//!
//! What is null, what is not of its column's type, what a division by zero gives and what has more than [`MOST_DIGITS`]
//! digits before the point is unknown, and so is what is compared with it. No row makes a statement fail.

use super::Path;
use crate::value::Datum;

/// Digits before the point of a value that rules calculate with: those of the largest integer of 64 bits.
pub const MOST_DIGITS: u32 = 20;

/// Digits before the point of what a rule calculates: what the engine with the fewest counts exactly.
const MOST_CALCULATED_DIGITS: u32 = 64;

/// A number of a rule.
#[derive(Debug, Clone, PartialEq)]
pub enum Number {
    /// A column's value.
    Value(Path),
    /// A column's time, in microseconds since 1970; of days, and of times without a zone, as in UTC.
    Time(Path),
    /// A claim, by its number among the plan's parameters: a decimal of at most [`MOST_DIGITS`] digits before the point.
    Parameter(usize),
    /// What the rule states: a decimal.
    Constant(Datum),
    /// What is calculated of two others.
    Calculated {
        /// How.
        arithmetic: Arithmetic,
        /// Of what.
        left: Box<Number>,
        /// And what.
        right: Box<Number>,
    },
}

/// How two numbers become one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Arithmetic {
    /// `+`
    Add,
    /// `-`
    Subtract,
    /// `*`
    Multiply,
    /// `/` of whole numbers, cut off towards zero.
    Divide,
    /// `%` of whole numbers: what is left of a division, with the sign of what is divided.
    Remainder,
}

impl Arithmetic {
    /// Its sign.
    pub fn sign(self) -> &'static str {
        match self {
            Arithmetic::Add => "+",
            Arithmetic::Subtract => "-",
            Arithmetic::Multiply => "*",
            Arithmetic::Divide => "/",
            Arithmetic::Remainder => "%",
        }
    }
}

impl Number {
    /// About how many bytes it holds in memory.
    pub(super) fn weight(&self) -> usize {
        let below = match self {
            Number::Value(path) | Number::Time(path) => path.weight(),
            Number::Constant(cell) => cell.weight(),
            Number::Parameter(_) => 0,
            Number::Calculated { left, right, .. } => left.weight() + right.weight(),
        };
        std::mem::size_of::<Number>() + below
    }

    /// Is this true of a value that it is calculated from?
    pub(super) fn mentions(&self, is_meant: &dyn Fn(&Path) -> bool) -> bool {
        match self {
            Number::Value(path) | Number::Time(path) => is_meant(path),
            Number::Parameter(_) | Number::Constant(_) => false,
            Number::Calculated { left, right, .. } => left.mentions(is_meant) || right.mentions(is_meant),
        }
    }

    /// Have all claims that it is calculated from a value?
    pub(super) fn is_known(&self, known: &dyn Fn(usize) -> bool) -> bool {
        match self {
            Number::Parameter(parameter) => known(*parameter),
            Number::Value(_) | Number::Time(_) | Number::Constant(_) => true,
            Number::Calculated { left, right, .. } => left.is_known(known) && right.is_known(known),
        }
    }
}

/// A number of a rule that is being read, and how large it can become.
pub(super) struct Counted {
    /// The number.
    pub(super) number: Number,
    /// Has it no fraction, whatever the rows hold?
    pub(super) is_whole: bool,
    /// Digits before the point, at most.
    digits: u32,
    /// Values, and what is stated.
    leaves: usize,
    /// Divisions inside each other. Dialects say both sides of one twice.
    divisions: usize,
}

/// Values of one number, with what is stated.
const MOST_LEAVES: usize = 32;
/// Divisions inside each other.
const MOST_DIVISIONS: usize = 3;

impl Counted {
    /// A value.
    pub(super) fn leaf(number: Number, is_whole: bool) -> Self {
        let digits = if let Number::Constant(decimal) = &number { digits(decimal) } else { MOST_DIGITS };
        Counted { number, is_whole, digits, leaves: 1, divisions: 0 }
    }

    /// Two numbers as one.
    ///
    /// # Errors
    /// What cannot be calculated, and what to do instead.
    pub(super) fn with(self, arithmetic: Arithmetic, other: Counted) -> Result<Counted, String> {
        let sign = arithmetic.sign();
        let whole = self.is_whole && other.is_whole;
        let digits = match arithmetic {
            Arithmetic::Add | Arithmetic::Subtract => self.digits.max(other.digits).saturating_add(1),
            Arithmetic::Multiply | Arithmetic::Divide | Arithmetic::Remainder => {
                self.digits.saturating_add(other.digits)
            }
        };
        if matches!(arithmetic, Arithmetic::Divide | Arithmetic::Remainder) && !whole {
            let text = "takes columns of whole numbers, and whole numbers; say it with `*`: `a / b > 2` is `a > b * 2`";
            return Err(format!("`{sign}` {text}"));
        }
        let leaves = self.leaves + other.leaves;
        let divisions = self.divisions.max(other.divisions) + usize::from(arithmetic == Arithmetic::Divide);
        if digits > MOST_CALCULATED_DIGITS || leaves > MOST_LEAVES || divisions > MOST_DIVISIONS {
            return Err(format!(
                "this is more than a rule calculates: at most three values multiplied or divided with each other, \
                 {MOST_DIVISIONS} divisions inside each other, and {MOST_LEAVES} values in all; say it as several conditions"
            ));
        }
        let [left, right] = [self.number, other.number].map(Box::new);
        Ok(Counted {
            number: Number::Calculated { arithmetic, left, right },
            is_whole: whole,
            digits,
            leaves,
            divisions,
        })
    }
}

/// How many digits a decimal has before the point.
pub(super) fn digits(decimal: &Datum) -> u32 {
    match decimal {
        Datum::Text(text) => {
            let whole = text.trim_start_matches('-').split('.').next().map_or(0, str::len);
            u32::try_from(whole).unwrap_or(u32::MAX)
        }
        Datum::Null | Datum::Integer(_) | Datum::Real(_) | Datum::Blob(_) | Datum::List(_) => MOST_DIGITS,
    }
}
