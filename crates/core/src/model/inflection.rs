//! One and many of English words, as tables are called. A package knows the grammar; what it gets wrong, and what catalogs hold
//! that is not English at all (`dns`, `gps`, `skus`), stands here. A word that could be either is left as it is.

use std::collections::{HashMap, HashSet};
use std::sync::LazyLock;

/// Words that are the same for one and for many, or that look like many and are none: acronyms and names of things; what is not
/// counted; what is alike for one and many; what is not a noun; the rest.
const KEPT: &str = "
    aws bios cms css devops dns dos gcs gps hls https ics iops ios js kubernetes ldaps lms mbps nfs ntfs ops os pos
    postgres pps qps redis rps rss sms smtps sos tls tos ups
    advice analytics athletics chaos clothes cosmos data debris economics electronics equipment ethics ethos
    evidence feedback firmware furniture genetics goods hardware headquarters homework information jewellery jewelry
    knowledge kudos linguistics logistics luggage mathematics mechanics media metadata money music news optics
    pathos physics politics research rice robotics software thanks traffic weather
    aircraft barracks chassis corps crossroads deer fish gallows hovercraft innings means moose offspring premises
    series sheep spacecraft species staff
    always his its perhaps this thus us versus yes
    asbestos binoculars cannabis diabetes herpes jeans measles mumps odds pants pliers rabies scissors shorts tennis
    tongs trousers
";

/// One/many, where the package says something else, or where many is one of two words.
const PAIRS: &str = "
    ache/aches ad/ads agenda/agendas alga/algae antenna/antennae api/apis avalanche/avalanches axis/axes bias/biases
    bus/buses cache/caches cargo/cargoes cd/cds cdn/cdns cliche/cliches corpus/corpora cpu/cpus csv/csvs db/dbs
    dogma/dogmas dvd/dvds emphasis/emphases emoji/emojis focus/focuses foodie/foodies formula/formulas
    freebie/freebies gas/gases gif/gifs gpu/gpus guru/gurus headache/headaches hoodie/hoodies id/ids index/indexes
    indie/indies ip/ips iris/irises jwt/jwts kiwi/kiwis kpi/kpis larva/larvae lemma/lemmas lens/lenses llm/llms
    mask/masks memorandum/memoranda menu/menus mustache/mustaches nebula/nebulae newbie/newbies niche/niches
    npu/npus oasis/oases pc/pcs pdf/pdfs psyche/psyches rfc/rfcs rhinoceros/rhinoceroses safari/safaris
    schema/schemas sdk/sdks selfie/selfies ski/skis sku/skus smoothie/smoothies ssd/ssds stigma/stigmas taxi/taxis
    trellis/trellises tv/tvs uri/uris veggie/veggies veto/vetoes virus/viruses vm/vms vpn/vpns wiki/wikis
";

/// Other words for many.
const ALSO_MANY: &str = "
    antenna/antennas formula/formulae index/indices lens/lens schema/schemata stigma/stigmata virus/viri vita/vitae
";

/// The word for one; the word itself where it is one already, or may be.
pub(super) fn singular(word: &str) -> String {
    if WORDS.kept.contains(word) || WORDS.many.contains_key(word) {
        return word.to_owned();
    }
    if let Some(one) = WORDS.one.get(word) {
        return (*one).to_owned();
    }
    if is_one(word) || !is_word(word) || is_uncounted(word) {
        return word.to_owned();
    }
    pluralizer::pluralize(word, 1, false)
}

/// The word for many; none where there is none, or nobody is sure.
pub(super) fn plural(word: &str) -> Option<String> {
    if let Some(many) = WORDS.many.get(word) {
        return Some((*many).to_owned());
    }
    if WORDS.kept.contains(word) || !is_word(word) || is_uncounted(word) {
        return None;
    }
    if let Some(stem) = word.strip_suffix("is") {
        // Greek: a thesis, an axis. Of other words in -is nobody is sure.
        return (stem.ends_with(['s', 'x'])).then(|| format!("{stem}es"));
    }
    if ends_like_an_acronym(word) {
        return None;
    }
    let many = pluralizer::pluralize(word, 2, false);
    (many != word).then_some(many)
}

/// The words above, to be found.
struct Words {
    kept: HashSet<&'static str>,
    /// Many, by one.
    many: HashMap<&'static str, &'static str>,
    /// One, by many.
    one: HashMap<&'static str, &'static str>,
}

static WORDS: LazyLock<Words> = LazyLock::new(|| {
    let pairs = |text: &'static str| text.split_whitespace().filter_map(|pair| pair.split_once('/'));
    let swapped = |(one, many)| (many, one);
    Words {
        kept: KEPT.split_whitespace().collect(),
        many: pairs(PAIRS).collect(),
        // Where two say it, the first does.
        one: pairs(ALSO_MANY).chain(pairs(PAIRS)).map(swapped).collect(),
    }
});

/// Does a word that is written as one with others end with one that is not counted: `userdata`, `socialmedia`?
fn is_uncounted(word: &str) -> bool {
    ["data", "media", "software", "hardware", "equipment", "information", "metadata", "feedback"]
        .iter()
        .any(|mass| word.len() > mass.len() && word.ends_with(mass))
}

/// Does a word in -s look like one thing: `glass`, `thesis`, or an acronym?
fn is_one(word: &str) -> bool {
    word.ends_with("ss") || word.ends_with("is") || word.ends_with("ous") || ends_like_an_acronym(word)
}

/// Words of two or three letters, and those without a vowel, are not plurals that anybody could be sure of.
fn ends_like_an_acronym(word: &str) -> bool {
    word.ends_with('s') && (word.len() <= 3 || word.len() <= 5 && !word.contains(['a', 'e', 'i', 'o', 'u', 'y']))
}

fn is_word(word: &str) -> bool {
    word.len() > 1 && word.bytes().all(|byte| byte.is_ascii_alphabetic())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Each line: a table's word, the word for one, the word for many; `-` where there is none.
    const WORDS: &str = include_str!("words.txt");

    #[test]
    fn words_of_real_catalogs_are_made_one_and_many() {
        let mut wrong = Vec::new();
        let mut count = 0;
        for line in WORDS.lines().filter(|line| !line.starts_with('#')) {
            let [word, one, many] = line.split_whitespace().collect::<Vec<_>>()[..] else { panic!("{line}") };
            count += 1;
            let found = singular(word);
            let all = plural(&found).unwrap_or_else(|| "-".to_owned());
            if (found.as_str(), all.as_str()) != (one, many) {
                wrong.push(format!("{word}: {found} {all}, not {one} {many}"));
            }
            assert_eq!(singular(&found), found, "one is one: {word}");
        }
        assert!(wrong.is_empty(), "{}", wrong.join("\n"));
        assert!(count >= 300, "{count} words");
    }
}
