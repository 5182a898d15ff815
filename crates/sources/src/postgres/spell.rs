//! Binary forms that JSON has no value for, spelled out as the text that the engine would give: days and times,
//! decimals, intervals as ISO 8601, identifiers.

use super::wire::Reader;

// The types that are spelled, by their object identifiers in `pg_type`.
const DATE: u32 = 1082;
const TIME: u32 = 1083;
const TIMESTAMP: u32 = 1114;
const TIMESTAMPTZ: u32 = 1184;
const INTERVAL: u32 = 1186;
const NUMERIC: u32 = 1700;
const UUID: u32 = 2950;

/// Is a value of this type spelled out?
pub(super) fn is_spelled(ty: u32) -> bool {
    matches!(ty, UUID | NUMERIC | DATE | TIME | TIMESTAMP | TIMESTAMPTZ | INTERVAL)
}

/// Appends a value's text; none where the bytes have not the form that the type has, or the type is not spelled.
pub(super) fn spell(out: &mut Vec<u8>, ty: u32, bytes: &[u8]) -> Option<()> {
    match ty {
        UUID => uuid(out, bytes),
        NUMERIC => numeric(out, bytes),
        DATE => date(out, i32::from_be_bytes(bytes.try_into().ok()?)),
        TIME => time(out, i64(bytes)?),
        TIMESTAMP => timestamp(out, i64(bytes)?, b""),
        TIMESTAMPTZ => timestamp(out, i64(bytes)?, b"Z"),
        INTERVAL => interval(out, bytes),
        _ => None,
    }
}

fn i64(bytes: &[u8]) -> Option<i64> {
    bytes.try_into().ok().map(i64::from_be_bytes)
}

fn uuid(out: &mut Vec<u8>, bytes: &[u8]) -> Option<()> {
    if bytes.len() != 16 {
        return None;
    }
    for (at, byte) in bytes.iter().enumerate() {
        if matches!(at, 4 | 6 | 8 | 10) {
            out.push(b'-');
        }
        const DIGITS: &[u8; 16] = b"0123456789abcdef";
        out.extend([byte >> 4, byte & 0x0F].map(|digit| DIGITS[usize::from(digit)]));
    }
    Some(())
}

/// Decimal digits, with zeros before them to fill `width`.
fn push_digits(out: &mut Vec<u8>, number: u64, width: usize) {
    let mut buffer = itoa::Buffer::new();
    let digits = buffer.format(number).as_bytes();
    out.extend(std::iter::repeat_n(b'0', width.saturating_sub(digits.len())));
    out.extend_from_slice(digits);
}

/// The same of a number that may be negative; a sign before them all.
fn push_signed(out: &mut Vec<u8>, number: i64) {
    if number < 0 {
        out.push(b'-');
    }
    push_digits(out, number.unsigned_abs(), 1);
}

/// Digits in groups of four, the weight of the first group, the sign, and how many digits follow the point.
fn numeric(out: &mut Vec<u8>, bytes: &[u8]) -> Option<()> {
    let mut reader = Reader(bytes);
    let mut i16 = || reader.take(2).and_then(|bytes| bytes.try_into().ok()).map(i16::from_be_bytes);
    let (count, weight, sign, scale) = (i16()?, i16()?, i16()?, i16()?);
    match sign.cast_unsigned() {
        0x0000 => {}
        0x4000 => out.push(b'-'),
        0xC000 => out.extend_from_slice(b"NaN"),
        0xD000 => out.extend_from_slice(b"Infinity"),
        0xF000 => out.extend_from_slice(b"-Infinity"),
        _ => return None,
    }
    if sign.cast_unsigned() >= 0xC000 {
        return Some(());
    }
    let (count, scale) = (usize::try_from(count).ok()?, usize::try_from(scale).ok()?);
    let groups = reader.take(count * 2)?;
    let group = |at: i32| {
        let at = usize::try_from(at).ok()? * 2;
        groups.get(at..at + 2).and_then(|bytes| bytes.try_into().ok()).map(u16::from_be_bytes)
    };
    let push = |out: &mut Vec<u8>, at: i32, width| push_digits(out, group(at).unwrap_or(0).into(), width);
    if weight < 0 {
        out.push(b'0');
    }
    (0..=i32::from(weight)).for_each(|at| push(out, at, if at == 0 { 1 } else { 4 }));
    if scale > 0 {
        out.push(b'.');
        let start = out.len();
        // A number below 0.0001 begins with groups that are not sent.
        let mut at = i32::from(weight) + 1;
        while out.len() - start < scale {
            push(out, at, 4);
            at += 1;
        }
        out.truncate(start + scale);
    }
    Some(())
}

/// Days from 1970-01-01 to 2000-01-01, PostgreSQL's epoch.
const EPOCH_DAYS: i64 = 10_957;
const MICROS_PER_SECOND: i64 = 1_000_000;
const MICROS_PER_DAY: i64 = 86_400 * MICROS_PER_SECOND;

fn date(out: &mut Vec<u8>, days: i32) -> Option<()> {
    match days {
        i32::MAX => out.extend_from_slice(b"infinity"),
        i32::MIN => out.extend_from_slice(b"-infinity"),
        days => {
            let era = civil(out, i64::from(days));
            out.extend_from_slice(era);
        }
    }
    Some(())
}

/// `YYYY-MM-DD` of days since 2000-01-01, in the proleptic Gregorian calendar, and what stands behind it all: ` BC` before the year 1.
/// That and years of more digits are no dates of RFC 3339, so they become errors on their fields; as the engine writes them, so that a
/// cursor may hold them.
fn civil(out: &mut Vec<u8>, days: i64) -> &'static [u8] {
    // Counted from 0000-03-01, so that the leap day ends a year: 146,097 days are 400 years.
    let shifted = days + EPOCH_DAYS + 719_468;
    let era = shifted.div_euclid(146_097);
    let day_of_era = shifted.rem_euclid(146_097);
    let year_of_era = (day_of_era - day_of_era / 1_460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let shifted_month = (5 * day_of_year + 2) / 153;
    let day = day_of_year - (153 * shifted_month + 2) / 5 + 1;
    let month = if shifted_month < 10 { shifted_month + 3 } else { shifted_month - 9 };
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    // There is no year zero: the year before 1 is 1 BC.
    let (year, era): (i64, &[u8]) = if year < 1 { (1 - year, b" BC") } else { (year, b"") };
    let width = if year > 9_999 { year.ilog10() as usize + 1 } else { 4 };
    push_parts(out, [(year.unsigned_abs(), width), (month.unsigned_abs(), 2), (day.unsigned_abs(), 2)], b'-');
    era
}

fn time(out: &mut Vec<u8>, micros: i64) -> Option<()> {
    let (seconds, fraction) = (micros.div_euclid(MICROS_PER_SECOND), micros.rem_euclid(MICROS_PER_SECOND));
    let seconds = u64::try_from(seconds).ok()?;
    push_parts(out, [(seconds / 3_600, 2), (seconds / 60 % 60, 2), (seconds % 60, 2)], b':');
    push_fraction(out, fraction.unsigned_abs());
    Some(())
}

fn push_parts(out: &mut Vec<u8>, parts: [(u64, usize); 3], separator: u8) {
    for (at, (number, width)) in parts.into_iter().enumerate() {
        if at > 0 {
            out.push(separator);
        }
        push_digits(out, number, width);
    }
}

fn push_fraction(out: &mut Vec<u8>, micros: u64) {
    if micros > 0 {
        out.push(b'.');
        push_digits(out, micros, 6);
        let zeros = out.iter().rev().take_while(|digit| **digit == b'0').count();
        out.truncate(out.len() - zeros);
    }
}

fn timestamp(out: &mut Vec<u8>, micros: i64, zone: &[u8]) -> Option<()> {
    match micros {
        i64::MAX => out.extend_from_slice(b"infinity"),
        i64::MIN => out.extend_from_slice(b"-infinity"),
        micros => {
            let era = civil(out, micros.div_euclid(MICROS_PER_DAY));
            out.push(b' ');
            time(out, micros.rem_euclid(MICROS_PER_DAY))?;
            out.extend_from_slice(zone);
            out.extend_from_slice(era);
        }
    }
    Some(())
}

/// ISO 8601: years and months, days, and a time whose parts share one sign.
fn interval(out: &mut Vec<u8>, bytes: &[u8]) -> Option<()> {
    let mut reader = Reader(bytes);
    let (micros, days, months) = (i64(reader.take(8)?)?, reader.i32()?, reader.i32()?);
    out.push(b'P');
    let parts_of_days = [(months / 12, b'Y'), (months % 12, b'M'), (days, b'D')];
    for (number, unit) in parts_of_days.into_iter().filter(|(number, _)| *number != 0) {
        push_signed(out, number.into());
        out.push(unit);
    }
    if micros == 0 && (months, days) != (0, 0) {
        return Some(());
    }
    out.push(b'T');
    let sign = if micros < 0 { b"-".as_slice() } else { b"" };
    let (seconds, fraction) = (micros.unsigned_abs() / 1_000_000, micros.unsigned_abs() % 1_000_000);
    let (hours, minutes, seconds) = (seconds / 3_600, seconds / 60 % 60, seconds % 60);
    for (number, unit) in [(hours, b'H'), (minutes, b'M')].into_iter().filter(|(number, _)| *number != 0) {
        out.extend_from_slice(sign);
        push_digits(out, number, 1);
        out.push(unit);
    }
    if seconds != 0 || fraction != 0 || (hours, minutes) == (0, 0) {
        out.extend_from_slice(sign);
        push_digits(out, seconds, 1);
        push_fraction(out, fraction);
        out.push(b'S');
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(write: impl FnOnce(&mut Vec<u8>) -> Option<()>) -> String {
        // Whatever is there already stays.
        let mut out = b"T".to_vec();
        write(&mut out).unwrap();
        String::from_utf8(out).unwrap().split_off(1)
    }

    fn numeric_bytes(weight: i16, sign: u16, scale: i16, groups: &[i16]) -> Vec<u8> {
        let head = [i16::try_from(groups.len()).unwrap(), weight, sign.cast_signed(), scale];
        head.iter().chain(groups).flat_map(|number| number.to_be_bytes()).collect()
    }

    #[test]
    fn numerics_keep_every_digit() {
        let cases = [
            (numeric_bytes(0, 0, 2, &[12, 5000]), "12.50"),
            (numeric_bytes(1, 0x4000, 0, &[1, 0]), "-10000"),
            (numeric_bytes(1, 0, 0, &[1]), "10000"),
            (numeric_bytes(0, 0, 0, &[]), "0"),
            (numeric_bytes(0, 0, 3, &[]), "0.000"),
            (numeric_bytes(-1, 0, 4, &[1]), "0.0001"),
            (numeric_bytes(-2, 0, 8, &[12]), "0.00000012"),
            (numeric_bytes(0, 0xC000, 0, &[]), "NaN"),
        ];
        for (bytes, expected) in cases {
            assert_eq!(text(|out| numeric(out, &bytes)), expected);
        }
    }

    #[test]
    fn days_and_instants_are_counted_from_2000() {
        for (days, expected) in [
            (0, "2000-01-01"),
            (-1, "1999-12-31"),
            (59, "2000-02-29"),
            (9_690, "2026-07-13"),
            (-730_119, "0001-01-01"),
            (i32::MAX, "infinity"),
        ] {
            assert_eq!(text(|out| date(out, days)), expected);
        }
        assert_eq!(text(|out| date(out, -730_120)), "0001-12-31 BC", "there is no year zero");
        assert_eq!(text(|out| timestamp(out, -1, b"Z")), "1999-12-31 23:59:59.999999Z");
        assert_eq!(text(|out| timestamp(out, 1_500_000, b"")), "2000-01-01 00:00:01.5");
        assert_eq!(text(|out| time(out, MICROS_PER_DAY)), "24:00:00");
    }

    #[test]
    fn intervals_are_iso_8601() {
        let bytes = |micros: i64, days: i32, months: i32| {
            [&micros.to_be_bytes()[..], &days.to_be_bytes(), &months.to_be_bytes()].concat()
        };
        for (value, expected) in [
            (bytes(0, 0, 0), "PT0S"),
            (bytes(0, 3, 14), "P1Y2M3D"),
            (bytes(3_661_500_000, 0, 0), "PT1H1M1.5S"),
            (bytes(-60_000_000, -1, 0), "P-1DT-1M"),
        ] {
            assert_eq!(text(|out| interval(out, &value)), expected);
        }
    }
}
