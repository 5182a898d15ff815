//! A list of values inside one row, kept as bytes: one tag per item, then eight bytes of a number, or four bytes of a
//! length and the bytes. The same form as in a cursor's position, so that both are written and read here.

use super::{Datum, DatumRef};

/// A list as a source holds it, borrowed from the row.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ListRef<'a>(&'a [u8]);

impl<'a> ListRef<'a> {
    /// The list that [`push_item`] wrote into these bytes.
    pub fn new(bytes: &'a [u8]) -> Self {
        ListRef(bytes)
    }

    /// The bytes, for keeping them elsewhere.
    pub fn bytes(self) -> &'a [u8] {
        self.0
    }

    /// The items, up to the first that is not well-formed.
    pub fn items(self) -> impl Iterator<Item = DatumRef<'a>> {
        let mut rest = self.0;
        std::iter::from_fn(move || if rest.is_empty() { None } else { take_item(&mut rest) })
    }
}

/// Appends an item.
pub fn push_item(out: &mut Vec<u8>, cell: DatumRef<'_>) {
    let bytes = |out: &mut Vec<u8>, tag: u8, bytes: &[u8]| {
        out.push(tag);
        out.extend_from_slice(&u32::try_from(bytes.len()).unwrap_or(u32::MAX).to_be_bytes());
        out.extend_from_slice(bytes);
    };
    match cell {
        DatumRef::Null => out.push(0),
        DatumRef::Integer(value) => {
            out.push(1);
            out.extend_from_slice(&value.to_be_bytes());
        }
        DatumRef::Real(value) => {
            out.push(2);
            out.extend_from_slice(&value.to_bits().to_be_bytes());
        }
        DatumRef::Text(text) => bytes(out, 3, text),
        DatumRef::Blob(blob) => bytes(out, 4, blob),
        DatumRef::List(list) => bytes(out, 5, list.bytes()),
    }
}

/// Takes the first item off; none where the bytes are not well-formed.
pub(crate) fn take_item<'a>(rest: &mut &'a [u8]) -> Option<DatumRef<'a>> {
    let (tag, after) = rest.split_first()?;
    *rest = after;
    let mut take = |length: usize| {
        let (bytes, after) = rest.split_at_checked(length)?;
        *rest = after;
        Some(bytes)
    };
    match tag {
        0 => Some(DatumRef::Null),
        1 => Some(DatumRef::Integer(i64::from_be_bytes(take(8)?.try_into().ok()?))),
        2 => Some(DatumRef::Real(f64::from_bits(u64::from_be_bytes(take(8)?.try_into().ok()?)))),
        3..=5 => {
            let length = usize::try_from(u32::from_be_bytes(take(4)?.try_into().ok()?)).ok()?;
            let bytes = take(length)?;
            Some(match tag {
                3 => DatumRef::Text(bytes),
                4 => DatumRef::Blob(bytes),
                _ => DatumRef::List(ListRef(bytes)),
            })
        }
        _ => None,
    }
}

impl ListRef<'_> {
    /// An owned copy.
    pub fn to_datums(self) -> Vec<Datum> {
        self.items().map(DatumRef::to_datum).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn items_come_back_as_they_were_pushed() {
        let mut inner = Vec::new();
        push_item(&mut inner, DatumRef::Integer(7));
        let cells = [
            DatumRef::Null,
            DatumRef::Integer(i64::MIN),
            DatumRef::Real(0.5),
            DatumRef::Text("é".as_bytes()),
            DatumRef::Blob(&[0, 255]),
            DatumRef::List(ListRef::new(&inner)),
        ];
        let mut bytes = Vec::new();
        cells.iter().for_each(|cell| push_item(&mut bytes, *cell));
        assert_eq!(ListRef::new(&bytes).items().collect::<Vec<_>>(), cells);
    }

    #[test]
    fn bytes_that_are_cut_off_end_the_list() {
        let mut bytes = Vec::new();
        push_item(&mut bytes, DatumRef::Integer(1));
        push_item(&mut bytes, DatumRef::Text(b"text"));
        assert_eq!(ListRef::new(&bytes[..bytes.len() - 1]).items().count(), 1);
    }
}
