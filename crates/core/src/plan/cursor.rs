//! Sealed cursors: a position in an order, encrypted and authenticated with AES-SIV (RFC 5297), so that the same
//! position always gives the same cursor and nobody can read or make one.
//!
//! A cursor carries a binding: a digest of the type, the ordering and the join table that it belongs to. The role is
//! authenticated beside it. A cursor used for another list, order or role is refused.

use std::fmt;

use aes_siv::KeyInit;
use aes_siv::siv::Aes256Siv;
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ring::{digest, hkdf, hmac};

use crate::model::IDENTITY_LENGTH;
use crate::value::{Datum, DatumRef, push_item, take_item};

/// Bytes of a binding.
pub(crate) const BINDING_LENGTH: usize = IDENTITY_LENGTH;

/// A key for one purpose from the service's secret (HKDF, RFC 5869).
fn derive(secret: &[u8], purpose: &[u8], key: &mut [u8]) {
    struct Length(usize);
    impl hkdf::KeyType for Length {
        fn len(&self) -> usize {
            self.0
        }
    }
    hkdf::Salt::new(hkdf::HKDF_SHA256, b"puente")
        .extract(secret)
        .expand(&[purpose], Length(key.len()))
        .and_then(|okm| okm.fill(key))
        .expect("a key is shorter than what HKDF-SHA256 gives");
}

/// The longest cursor that is looked at, in characters.
const LONGEST: usize = 256 << 10;

/// Seals and opens cursors for one role.
#[derive(Clone)]
pub struct Sealer {
    key: [u8; 64],
    /// Of global ids, which are the same for every role.
    ids: [u8; 64],
    revisions: [u8; 32],
    role: String,
}

/// An opened cursor.
#[derive(Debug, Clone, PartialEq)]
pub struct Position {
    /// What it is bound to.
    pub binding: [u8; BINDING_LENGTH],
    /// The values of the order's terms.
    pub cells: Vec<Datum>,
}

impl fmt::Debug for Sealer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Sealer(role {})", self.role)
    }
}

impl Sealer {
    /// A sealer whose keys are derived from the service's secret.
    pub fn new(secret: &[u8], role: &str) -> Self {
        let mut sealer = Sealer { key: [0; 64], ids: [0; 64], revisions: [0; 32], role: role.to_owned() };
        derive(secret, b"cursor", &mut sealer.key);
        derive(secret, b"global id", &mut sealer.ids);
        derive(secret, b"revision", &mut sealer.revisions);
        sealer
    }

    /// A tag of a row's state: equal values have equal tags, and nothing can be read from one.
    pub fn revision<'a>(&self, of: &str, cells: impl IntoIterator<Item = DatumRef<'a>>) -> String {
        const LENGTH: usize = 15;
        let mut values = of.as_bytes().to_vec();
        values.push(0);
        cells.into_iter().for_each(|cell| push_item(&mut values, cell));
        URL_SAFE_NO_PAD
            .encode(&hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, &self.revisions), &values).as_ref()[..LENGTH])
    }

    /// The binding of a type, an ordering and whatever else tells lists apart.
    pub(super) fn binding(parts: &str) -> [u8; BINDING_LENGTH] {
        let digest = digest::digest(&digest::SHA256, parts.as_bytes());
        let mut binding = [0; BINDING_LENGTH];
        binding.copy_from_slice(&digest.as_ref()[..BINDING_LENGTH]);
        binding
    }

    /// Seals a position.
    pub fn seal<'a>(&self, binding: &[u8; BINDING_LENGTH], cells: impl IntoIterator<Item = DatumRef<'a>>) -> String {
        seal(&self.key, self.role.as_bytes(), binding, cells)
    }

    /// Seals the global id of a row: the values of its key, bound to its type. What a role sees of the row is asked with every use.
    pub fn seal_id<'a>(
        &self,
        identity: &[u8; IDENTITY_LENGTH],
        cells: impl IntoIterator<Item = DatumRef<'a>>,
    ) -> String {
        seal(&self.ids, b"", identity, cells)
    }

    /// Opens a global id; none where it is not one of this service.
    pub fn open_id(&self, id: &str) -> Option<Position> {
        open(&self.ids, b"", id)
    }

    /// Opens a cursor; none where it was not sealed by this service for this role.
    pub fn open(&self, cursor: &str) -> Option<Position> {
        open(&self.key, self.role.as_bytes(), cursor)
    }
}

fn seal<'a>(
    key: &[u8; 64],
    of: &[u8],
    binding: &[u8; BINDING_LENGTH],
    cells: impl IntoIterator<Item = DatumRef<'a>>,
) -> String {
    let mut plain = binding.to_vec();
    for cell in cells {
        push_item(&mut plain, cell);
    }
    let sealed = cipher(key).encrypt([of], &plain).expect("a position is short");
    URL_SAFE_NO_PAD.encode(sealed)
}

fn open(key: &[u8; 64], of: &[u8], text: &str) -> Option<Position> {
    if text.len() > LONGEST {
        return None;
    }
    let sealed = URL_SAFE_NO_PAD.decode(text).ok()?;
    let plain = cipher(key).decrypt([of], &sealed).ok()?;
    let (binding, mut rest) = plain.split_at_checked(BINDING_LENGTH)?;
    let mut cells = Vec::new();
    while !rest.is_empty() {
        match take_item(&mut rest)? {
            // Text that no parameter can carry is not a position to go on from.
            DatumRef::Text(text) if std::str::from_utf8(text).is_err() => return None,
            cell => cells.push(cell.to_datum()),
        }
    }
    Some(Position { binding: binding.try_into().ok()?, cells })
}

fn cipher(key: &[u8; 64]) -> Aes256Siv {
    Aes256Siv::new_from_slice(key).expect("the key has the cipher's length")
}

#[cfg(test)]
mod tests {
    use super::*;

    const SECRET: &[u8] = b"a secret of thirty-two bytes, no less";

    fn position() -> Vec<Datum> {
        vec![
            Datum::Null,
            Datum::Integer(i64::MIN),
            Datum::Real(0.1),
            Datum::Text("Höhe".into()),
            Datum::Blob(vec![0, 255]),
        ]
    }

    #[test]
    fn a_position_comes_back_with_full_precision_and_class() {
        let sealer = Sealer::new(SECRET, "owner");
        let binding = Sealer::binding("huts by name");
        let cells = position();
        let cursor = sealer.seal(&binding, cells.iter().map(Datum::as_ref));
        assert_eq!(sealer.open(&cursor), Some(Position { binding, cells: cells.clone() }));
        assert_eq!(cursor, sealer.seal(&binding, cells.iter().map(Datum::as_ref)), "deterministic");
    }

    #[test]
    fn another_role_another_secret_or_a_changed_byte_is_refused() {
        let sealer = Sealer::new(SECRET, "owner");
        let cursor = sealer.seal(&Sealer::binding("x"), position().iter().map(Datum::as_ref));
        assert_eq!(Sealer::new(SECRET, "warden").open(&cursor), None);
        assert_eq!(Sealer::new(b"another secret of thirty-two bytes!!", "owner").open(&cursor), None);
        for at in 0..cursor.len() {
            let mut changed = cursor.clone().into_bytes();
            changed[at] = if changed[at] == b'A' { b'B' } else { b'A' };
            assert_eq!(sealer.open(&String::from_utf8(changed).unwrap()), None, "byte {at}");
        }
        assert_eq!(sealer.open(""), None);
        assert_eq!(sealer.open(&"A".repeat(LONGEST + 1)), None);
    }
}
