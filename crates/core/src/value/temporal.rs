//! Checked forms of days, times and instants. The text is judged, not reformatted beyond its separator, so that
//! fractions of a second keep the digits they have.

use jiff::SignedDuration;
use jiff::civil::DateTime;
use jiff::fmt::temporal::Pieces;

/// Is it `YYYY-MM-DD` and a day of the calendar?
pub(super) fn is_date(text: &str) -> bool {
    let [y1, y2, y3, y4, b'-', m1, m2, b'-', d1, d2] = text.as_bytes() else { return false };
    let (Some(century), Some(year), Some(month), Some(day)) =
        (two_digits(*y1, *y2), two_digits(*y3, *y4), two_digits(*m1, *m2), two_digits(*d1, *d2))
    else {
        return false;
    };
    let year = u32::from(century) * 100 + u32::from(year);
    let is_leap = year.is_multiple_of(4) && (!year.is_multiple_of(100) || year.is_multiple_of(400));
    let days = match month {
        1 | 3 | 5 | 7 | 8 | 10 | 12 => 31,
        4 | 6 | 9 | 11 => 30,
        2 if is_leap => 29,
        2 => 28,
        _ => 0,
    };
    year > 0 && (1..=days).contains(&day)
}

/// Is it `HH:MM`, `HH:MM:SS` or `HH:MM:SS.fraction` and a time of the day? 24:00 and leap seconds are not.
pub(super) fn is_time(text: &str) -> bool {
    let (clock, fraction) = match text.as_bytes() {
        [h1, h2, b':', m1, m2] => ((two_digits(*h1, *h2), two_digits(*m1, *m2), Some(0)), None),
        [h1, h2, b':', m1, m2, b':', s1, s2, rest @ ..] => {
            ((two_digits(*h1, *h2), two_digits(*m1, *m2), two_digits(*s1, *s2)), Some(rest))
        }
        _ => return false,
    };
    let fraction_fits = match fraction {
        None | Some([]) => true,
        Some([b'.', digits @ ..]) => (1..=9).contains(&digits.len()) && digits.iter().all(u8::is_ascii_digit),
        Some(_) => false,
    };
    fraction_fits && matches!(clock, (Some(0..=23), Some(0..=59), Some(0..=59)))
}

fn two_digits(tens: u8, ones: u8) -> Option<u8> {
    (tens.is_ascii_digit() && ones.is_ascii_digit()).then(|| (tens - b'0') * 10 + (ones - b'0'))
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
    let text = instant(text)?.to_string();
    split_local(&text).map(|(date, time)| (date.to_owned(), time.to_owned()))
}

/// An instant with `Z` or an offset (RFC 3339), as date and time in UTC, to the last second of the year 9999: an instant of the
/// calendar's library ends a day before.
pub(crate) fn instant(text: &str) -> Option<DateTime> {
    let normal = text.replacen(' ', "T", 1);
    let pieces = Pieces::parse(normal.as_bytes()).ok()?;
    let offset = pieces.to_numeric_offset().filter(|_| pieces.time_zone_annotation().is_none())?;
    let local = pieces.date().to_datetime(pieces.time()?);
    local.checked_sub(SignedDuration::from_secs(offset.seconds().into())).ok()
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
        let (date, time) = split_instant("9999-12-31T23:59:59+00:00").unwrap();
        assert_eq!((date.as_str(), time.as_str()), ("9999-12-31", "23:59:59"));
        assert!(split_instant("9999-12-31T23:59:59-01:00").is_none());
    }
}
