//! Who gets which name. A name that something has already is not given to something else: whoever uses it, a front end or a
//! grant, would suddenly mean another thing.
//!
//! In each scope (the types, the root fields, the fields of one type) things have the names that the survey file remembers, or
//! where it remembers nothing yet, those by rule. What the project file gives has to fit in beside them; what a later survey
//! finds yields, with a number.

use std::collections::{HashMap, HashSet};

use super::names::COMPANIONS;
use crate::project::{Mistake, Place};
use crate::value::Scalar;

/// Something that is to be named.
#[derive(Debug)]
pub(super) struct Wish {
    /// What it is, for whoever wants its name.
    pub(super) what: String,
    /// The name that the project file gives it, and where.
    pub(super) given: Option<(String, Place)>,
    /// The name that the survey file remembers.
    pub(super) remembered: Option<String>,
    /// The name by rule.
    pub(super) by_rule: String,
}

/// Who has a name.
#[derive(Debug, Clone)]
struct Holder {
    what: String,
    /// Where the project file gives it, if it does.
    given: Option<Place>,
}

/// Names that are taken in one scope.
#[derive(Debug, Clone)]
pub(super) struct Register {
    taken: HashMap<String, Holder>,
    /// Names that newcomers do not get.
    reserved: HashSet<String>,
    /// What is taken with a name: suffixes, the empty one among them.
    companions: &'static [&'static str],
}

impl Default for Register {
    fn default() -> Self {
        Register { taken: HashMap::new(), reserved: HashSet::new(), companions: &[""] }
    }
}

impl Register {
    /// A register of type names in which the names that every schema has are taken.
    pub(super) fn of_types() -> Self {
        let own = Holder { what: "something that every schema has".to_owned(), given: None };
        let mut taken = HashMap::new();
        for name in [
            "Query",
            "Mutation",
            "Subscription",
            "ID",
            "PageInfo",
            "Direction",
            "Grouping",
            "DateGrouping",
            "KeySummaryOrder",
            "ExistingRow",
        ] {
            taken.insert(name.to_owned(), own.clone());
        }
        for scalar in Scalar::ALL {
            for companion in ["", "Filter", "ListFilter", "Summary", "SummaryOrder"] {
                taken.insert(format!("{}{companion}", scalar.name()), own.clone());
            }
        }
        Register { taken, reserved: HashSet::new(), companions: COMPANIONS }
    }

    /// Who has a name, or one that comes with it.
    fn holder(&self, name: &str) -> Option<&Holder> {
        self.companions.iter().find_map(|companion| self.taken.get(&format!("{name}{companion}")))
    }

    /// Takes a name as it is; false where it was taken already.
    pub(super) fn take(&mut self, name: &str) -> bool {
        let free = self.holder(name).is_none();
        self.hold(name, Holder { what: String::new(), given: None });
        free
    }

    fn hold(&mut self, name: &str, holder: Holder) {
        for companion in self.companions {
            self.taken.entry(format!("{name}{companion}")).or_insert_with(|| holder.clone());
        }
    }

    /// Takes `wanted`, or the first free of `wanted2`, `wanted3`, ….
    pub(super) fn take_or_number(&mut self, wanted: &str) -> String {
        let is_free = |name: &String| self.holder(name).is_none() && !self.reserved.contains(name);
        let name = numbered(wanted).find(is_free).expect("there is always a next number");
        self.take(&name);
        name
    }

    /// The same for what has the name by rule, or remembered: a mistake of whoever gave the name to something else.
    pub(super) fn take_own(&mut self, what: &str, wanted: &str, mistakes: &mut Vec<Mistake>) -> String {
        if let Some(Holder { what: other, given: Some(place) }) = self.holder(wanted) {
            mistakes.push(mistake(*place, wanted, other, what));
        }
        let name = numbered(wanted).find(|name| self.holder(name).is_none()).expect("there is always a next number");
        self.hold(&name, Holder { what: what.to_owned(), given: None });
        name
    }

    /// Keeps newcomers from a name that something has which is named later.
    pub(super) fn reserve(&mut self, name: &str) {
        self.reserved.insert(name.to_owned());
    }

    /// Names everything in a scope, in the order of the wishes. `is_fresh`: does the survey file remember nothing of the scope?
    pub(super) fn assign(&mut self, wishes: &[Wish], is_fresh: bool, mistakes: &mut Vec<Mistake>) -> Vec<String> {
        let mut names = vec![String::new(); wishes.len()];
        let free = |wish: &Wish| wish.given.is_none();
        for (at, wish) in wishes.iter().enumerate().filter(|(_, wish)| free(wish)) {
            if let Some(remembered) = &wish.remembered {
                names[at] = self.take_own(&wish.what, remembered, mistakes);
            }
        }
        let by_rule = |wish: &Wish| free(wish) && wish.remembered.is_none();
        if is_fresh {
            for (at, wish) in wishes.iter().enumerate().filter(|(_, wish)| by_rule(wish)) {
                names[at] = self.take_own(&wish.what, &wish.by_rule, mistakes);
            }
        }
        for (at, wish) in wishes.iter().enumerate() {
            let Some((name, place)) = &wish.given else { continue };
            if let Some(holder) = self.holder(name) {
                mistakes.push(mistake(*place, name, &wish.what, &holder.what));
            }
            self.hold(name, Holder { what: wish.what.clone(), given: Some(*place) });
            names[at].clone_from(name);
        }
        if !is_fresh {
            for (at, wish) in wishes.iter().enumerate().filter(|(_, wish)| by_rule(wish)) {
                names[at] = self.take_or_number(&wish.by_rule);
            }
        }
        names
    }

    /// The names that are taken.
    #[cfg(test)]
    pub(super) fn names(&self) -> HashSet<&str> {
        self.taken.keys().map(String::as_str).collect()
    }
}

fn mistake(place: Place, name: &str, what: &str, other: &str) -> Mistake {
    let text = format!(
        "`{name}` cannot be the name of {what}: {other} has it, or a name that comes with it; choose another, or rename or hide \
         what has it"
    );
    Mistake { place, text }
}

fn numbered(wanted: &str) -> impl Iterator<Item = String> + '_ {
    std::iter::once(wanted.to_owned()).chain((2..).map(move |number| format!("{wanted}{number}")))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wish(what: &str, given: Option<&str>, remembered: Option<&str>, by_rule: &str) -> Wish {
        let given = given.map(|name| (name.to_owned(), Place { line: 7, column: 1 }));
        Wish { what: what.to_owned(), given, remembered: remembered.map(str::to_owned), by_rule: by_rule.to_owned() }
    }

    fn assign(wishes: &[Wish], is_fresh: bool) -> (Vec<String>, Vec<String>) {
        let mut mistakes = Vec::new();
        let names = Register::default().assign(wishes, is_fresh, &mut mistakes);
        (names, mistakes.into_iter().map(|mistake| mistake.text).collect())
    }

    #[test]
    fn a_newcomer_yields() {
        let mut register = Register::of_types();
        assert_eq!(register.take_or_number("Booking"), "Booking");
        assert_eq!(register.take_or_number("BookingFilter"), "BookingFilter2");
        assert_eq!(register.take_or_number("PageInfo"), "PageInfo2");
        assert!(register.names().contains("BookingSummaryOrder"));
        let known = [wish("old", None, Some("hut"), "hut"), wish("new", None, None, "hut")];
        assert_eq!(assign(&known, false), (vec!["hut".into(), "hut2".into()], vec![]));
    }

    #[test]
    fn a_name_that_something_has_cannot_be_given_to_something_else() {
        for remembered in [Some("fullName"), None] {
            let wishes = [
                wish("column `hash`", Some("fullName"), None, "hash"),
                wish("column `full_name`", None, remembered, "fullName"),
            ];
            let (_, mistakes) = assign(&wishes, remembered.is_none());
            assert!(
                mistakes[0].contains("column `hash`") && mistakes[0].contains("column `full_name` has it"),
                "{mistakes:?}"
            );
        }
        let both = [wish("one", Some("a"), None, "x"), wish("two", Some("a"), None, "y")];
        assert_eq!(assign(&both, true).1.len(), 1);
        // Two that are both renamed may change places; a newcomer yields to a given name.
        let swapped = [wish("one", Some("b"), Some("a"), "a"), wish("two", Some("a"), Some("b"), "b")];
        assert_eq!(assign(&swapped, false), (vec!["b".into(), "a".into()], vec![]));
        let newcomer = [wish("one", Some("b"), Some("a"), "a"), wish("two", None, None, "b")];
        assert_eq!(assign(&newcomer, false), (vec!["b".into(), "b2".into()], vec![]));
    }
}
