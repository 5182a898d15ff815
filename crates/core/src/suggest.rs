//! Near misses: which known name somebody probably meant.

/// The longest name that is compared: the work grows with the product of both lengths, and nobody mistypes longer ones.
const LONGEST: usize = 80;

/// The candidate closest to `typed`, if one is close enough to be a plausible slip of the keyboard.
pub fn nearest<'a>(typed: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    if typed.len() > LONGEST {
        return None;
    }
    let length = typed.chars().count();
    let limit = (length / 3).max(1);
    candidates
        .into_iter()
        // Names whose lengths differ by more are further apart than that, whatever their letters are.
        .filter(|candidate| candidate.len() <= LONGEST && candidate.chars().count().abs_diff(length) <= limit)
        .map(|candidate| {
            let distance = strsim::damerau_levenshtein(&typed.to_lowercase(), &candidate.to_lowercase());
            (distance, candidate)
        })
        .filter(|(distance, _)| *distance <= limit)
        .min_by_key(|(distance, candidate)| (*distance, *candidate))
        .map(|(_, candidate)| candidate)
}

/// `; did you mean `x`?`, or nothing.
pub fn did_you_mean<'a>(typed: &str, candidates: impl IntoIterator<Item = &'a str>) -> String {
    nearest(typed, candidates).map_or_else(String::new, |name| format!("; did you mean `{name}`?"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slip_is_found_and_a_stranger_is_not() {
        let names = ["bookings", "booking", "huts"];
        assert_eq!(nearest("bokings", names), Some("bookings"));
        assert_eq!(nearest("hutts", names), Some("huts"));
        assert_eq!(nearest("weather", names), None);
        let long = "b".repeat(LONGEST + 1);
        assert_eq!(nearest(&long, [long.as_str()]), None, "what is long is not compared");
    }
}
