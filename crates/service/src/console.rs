//! The console's files, built by `make console` and kept inside the binary.

use std::borrow::Cow;

use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Assets;

/// The page with its policy: a nonce per answer lets in our styles and nobody else's.
pub(crate) struct Page {
    pub(crate) html: String,
    pub(crate) policy: String,
}

/// What stands for the nonce in the built page.
const NONCE_MARK: &str = "%NONCE%";

pub(crate) fn page() -> Page {
    let nonce = crate::access_keys::random_text(16);
    let html =
        Assets::get("index.html").map_or_else(String::new, |file| String::from_utf8_lossy(&file.data).into_owned());
    Page {
        html: html.replace(NONCE_MARK, &nonce),
        policy: format!(
            "default-src 'none'; script-src 'self'; connect-src 'self'; img-src 'self' data:; \
             style-src 'self' 'nonce-{nonce}'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'"
        ),
    }
}

/// A file that the page loads, of `assets/`.
pub(crate) fn asset(name: &str) -> Option<(Vec<u8>, String)> {
    let file = Assets::get(&format!("assets/{name}"))?;
    let bytes: Cow<'static, [u8]> = file.data;
    Some((bytes.into_owned(), file.metadata.mimetype().to_owned()))
}
