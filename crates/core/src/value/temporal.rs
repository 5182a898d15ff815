//! Checked forms of days, times and instants. The text is judged, not reformatted beyond its separator, so that
//! fractions of a second keep the digits they have.

use jiff::civil::{Date, Time};

/// Is it `YYYY-MM-DD` and a day of the calendar?
pub(super) fn is_date(text: &str) -> bool {
    let bytes = text.as_bytes();
    bytes.len() == 10
        && bytes[4] == b'-'
        && bytes[7] == b'-'
        && digits(&bytes[0..4]).zip(digits(&bytes[5..7])).zip(digits(&bytes[8..10])).is_some_and(
            |((year, month), day)| match (i16::try_from(year), i8::try_from(month), i8::try_from(day)) {
                (Ok(year), Ok(month), Ok(day)) => year > 0 && Date::new(year, month, day).is_ok(),
                _ => false,
            },
        )
}

/// Is it `HH:MM`, `HH:MM:SS` or `HH:MM:SS.fraction` and a time of the day? 24:00 and leap seconds are not.
pub(super) fn is_time(text: &str) -> bool {
    let (clock, fraction) = text.split_once('.').map_or((text, None), |(clock, fraction)| (clock, Some(fraction)));
    let bytes = clock.as_bytes();
    let shape = match bytes.len() {
        5 => fraction.is_none() && bytes[2] == b':',
        8 => bytes[2] == b':' && bytes[5] == b':',
        _ => false,
    };
    if !shape || fraction.is_some_and(|f| f.is_empty() || f.len() > 9 || !f.bytes().all(|b| b.is_ascii_digit())) {
        return false;
    }
    let part = |range: std::ops::Range<usize>| bytes.get(range).and_then(digits).and_then(|n| i8::try_from(n).ok());
    let second = if bytes.len() == 8 { part(6..8) } else { Some(0) };
    matches!((part(0..2), part(3..5), second), (Some(h), Some(m), Some(s)) if Time::new(h, m, s, 0).is_ok())
}

/// The day and the time of a date-time without a zone, separated by `T`, `t` or a space.
pub(super) fn split_local(text: &str) -> Option<(&str, &str)> {
    let (date, rest) = text.split_at_checked(10)?;
    let time = rest.strip_prefix(['T', 't', ' '])?;
    (is_date(date) && is_time(time)).then_some((date, time))
}

/// The day and the time, in UTC, of an instant with `Z` or an offset.
pub(super) fn split_instant(text: &str) -> Option<(String, String)> {
    if let Some(local) = text.strip_suffix(['Z', 'z']) {
        return split_local(local).map(|(date, time)| (date.to_owned(), time.to_owned()));
    }
    let normal = text.replacen(' ', "T", 1);
    let instant: jiff::Timestamp = normal.parse().ok()?;
    let text = instant.to_string();
    split_local(text.strip_suffix('Z')?).map(|(date, time)| (date.to_owned(), time.to_owned()))
}

/// Is it a duration of ISO 8601: `P`, then numbers with `Y M W D`, then `T` and numbers with `H M S`? The seconds may
/// have a fraction, and every number may be negative, as databases write them.
pub(super) fn is_duration(text: &str) -> bool {
    let Some(rest) = text.strip_prefix('P') else { return false };
    let (days, time) = rest.split_once('T').map_or((rest, None), |(days, time)| (days, Some(time)));
    let parts_follow = |mut part: &str, units: &str| {
        let mut units = units.chars();
        while !part.is_empty() {
            let Some(end) = part.find(|c: char| c.is_ascii_alphabetic()) else { return false };
            let (number, unit) = (&part[..end], part[end..].chars().next());
            let digits = number.strip_prefix('-').unwrap_or(number);
            let (whole, fraction) = digits.split_once('.').unwrap_or((digits, "0"));
            let all_digits = |d: &str| !d.is_empty() && d.bytes().all(|b| b.is_ascii_digit());
            let fits = all_digits(whole) && all_digits(fraction) && (unit == Some('S') || !digits.contains('.'));
            if !fits || !units.any(|known| Some(known) == unit) {
                return false;
            }
            part = &part[end + 1..];
        }
        true
    };
    let (has_days, has_time) = (!days.is_empty(), time.is_some_and(|time| !time.is_empty()));
    (has_days || has_time)
        && time != Some("")
        && parts_follow(days, "YMWD")
        && parts_follow(time.unwrap_or_default(), "HMS")
}

/// Adds the seconds that RFC 3339 requires and databases leave out.
pub(super) fn with_seconds(time: &str) -> String {
    if time.len() == 5 { format!("{time}:00") } else { time.to_owned() }
}

fn digits(bytes: &[u8]) -> Option<u32> {
    bytes.iter().try_fold(0u32, |sum, byte| byte.is_ascii_digit().then(|| sum * 10 + u32::from(byte - b'0')))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_are_judged_by_the_calendar() {
        for good in ["2026-01-31", "2024-02-29", "0001-01-01"] {
            assert!(is_date(good), "{good}");
        }
        for bad in ["2026-02-29", "0000-00-00", "2026-1-1", "2026-13-01", "20260101", "", "2026-01-01x"] {
            assert!(!is_date(bad), "{bad}");
        }
    }

    #[test]
    fn times_end_before_midnight() {
        for good in ["00:00", "23:59:59", "08:30:00.123456"] {
            assert!(is_time(good), "{good}");
        }
        for bad in ["24:00", "24:00:00", "8:30", "08:30:60", "08:30:00.", "aa:bb", "08:30.5"] {
            assert!(!is_time(bad), "{bad}");
        }
    }

    #[test]
    fn durations_name_their_units_once_and_in_order() {
        for good in ["P1D", "PT0S", "P1Y2M3DT4H5M6.789S", "P-1M", "PT-0.5S", "P2W"] {
            assert!(is_duration(good), "{good}");
        }
        for bad in ["", "P", "PT", "P1", "1D", "P1D2Y", "P1.5D", "PT1H1H", "P1DT", "PT1S ", "P1H"] {
            assert!(!is_duration(bad), "{bad}");
        }
    }

    #[test]
    fn an_offset_is_turned_into_utc() {
        let (date, time) = split_instant("2026-07-14T01:30:00+02:00").unwrap();
        assert_eq!((date.as_str(), time.as_str()), ("2026-07-13", "23:30:00"));
        assert!(split_instant("2026-07-14T01:30:00").is_none());
    }
}
