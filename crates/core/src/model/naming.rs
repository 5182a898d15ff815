//! Who gets which name. A name that something has already is not given to something else: whoever uses it, a front end or a
//! grant, would suddenly mean another thing.
//!
//! In each scope (the types, the root fields, the fields of one type) things have the names that the survey file remembers, or
//! where it remembers nothing yet, those by rule. What the project file gives has to fit in beside them; what a later survey
//! finds yields. By rule a thing may be called by several words, the best first; a number is what is left where all are taken.

use std::collections::{HashMap, HashSet};

use super::{GLOBAL_ID, NODE};
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
    /// The names by rule, the best first; at least one.
    pub(super) by_rule: Vec<String>,
    /// Is the best of them what the database calls it, letter by letter? Then it has it before what would be called so, too.
    pub(super) is_exact: bool,
}

/// Who has a name.
#[derive(Debug, Clone)]
struct Holder {
    what: String,
    /// Where the project file gives it, if it does.
    given: Option<Place>,
}

/// Names that are taken in one scope.
#[derive(Debug, Clone, Default)]
pub(super) struct Register {
    taken: HashMap<String, Holder>,
    /// Names that newcomers do not get.
    reserved: HashSet<String>,
}

impl Register {
    /// A register of type names in which the names that every schema has are taken.
    pub(super) fn of_types(global_ids: bool) -> Self {
        let mut register = Register::default();
        if global_ids {
            register.hold(NODE, of_every_schema());
        }
        let mut take = |name: String| {
            register.hold(&name, of_every_schema());
        };
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
            take(name.to_owned());
        }
        for scalar in Scalar::ALL {
            for helper in ["", "Filter", "ListFilter", "Summary", "SummaryOrder"] {
                take(format!("{}{helper}", scalar.name()));
            }
        }
        register
    }

    /// A register of root fields.
    pub(super) fn of_roots(global_ids: bool) -> Self {
        let mut register = Register::default();
        for name in ["node", "nodes"].into_iter().filter(|_| global_ids) {
            register.hold(name, of_every_schema());
        }
        register
    }

    /// A register of the fields of a type.
    pub(super) fn of_fields(global_ids: bool) -> Self {
        let mut register = Register::default();
        if global_ids {
            register.hold(GLOBAL_ID, Holder { what: "the global id of a row".to_owned(), given: None });
        }
        register
    }

    /// Takes a name as it is; false where it was taken already.
    pub(super) fn take(&mut self, name: &str) -> bool {
        let free = self.is_free(name);
        self.hold(name, Holder { what: String::new(), given: None });
        free
    }

    fn is_free(&self, name: &str) -> bool {
        !self.taken.contains_key(name)
    }

    fn hold(&mut self, name: &str, holder: Holder) {
        self.taken.entry(name.to_owned()).or_insert(holder);
    }

    /// Takes the first that is free of what is wanted, else the first of it with a number behind it.
    pub(super) fn take_or_number(&mut self, wanted: &[String]) -> String {
        let name = first_free(wanted, |name| self.is_free(name) && !self.reserved.contains(name));
        self.take(&name);
        name
    }

    /// The same for what has the name by rule, or remembered: a mistake of whoever gave the best name to something else.
    pub(super) fn take_own(&mut self, what: &str, wanted: &[String], mistakes: &mut Vec<Mistake>) -> String {
        if let Some(Holder { what: other, given: Some(place) }) = self.taken.get(&wanted[0]) {
            mistakes.push(mistake(*place, &wanted[0], other, what));
        }
        let name = first_free(wanted, |name| self.is_free(name));
        self.hold(&name, Holder { what: what.to_owned(), given: None });
        name
    }

    /// The same for an enum, which has names of filters beside its own.
    pub(super) fn take_enum(&mut self, what: &str, wanted: &[String], mistakes: &mut Vec<Mistake>) -> String {
        let helpers = ["Filter", "ListFilter"];
        let are_free = |name: &&String| helpers.iter().all(|helper| self.is_free(&format!("{name}{helper}")));
        let free: Vec<String> = wanted.iter().filter(are_free).cloned().collect();
        let name = self.take_own(what, if free.is_empty() { wanted } else { &free }, mistakes);
        for helper in helpers {
            self.hold(&format!("{name}{helper}"), Holder { what: format!("a filter of {what}"), given: None });
        }
        name
    }

    /// Takes the names of helper types, which begin alike and end with these words; gives what they begin with. They give way,
    /// all of them together, to whatever has one of the names.
    pub(super) fn take_helpers(
        &mut self,
        what: &str,
        remembered: Option<&String>,
        wanted: &[String],
        endings: &[&str],
    ) -> String {
        let are_free = |name: &String| endings.iter().all(|ending| self.is_free(&format!("{name}{ending}")));
        let name = remembered.cloned().unwrap_or_else(|| first_free(wanted, are_free));
        for ending in endings {
            self.hold(&format!("{name}{ending}"), Holder { what: format!("a helper type of {what}"), given: None });
        }
        name
    }

    /// Keeps newcomers from a name that something has which is named later.
    pub(super) fn reserve(&mut self, name: &str) {
        self.reserved.insert(name.to_owned());
    }

    /// Names everything in a scope, in the order of the wishes. `is_fresh`: does the survey file remember nothing of the scope?
    /// `named` is told of each name before any name is given to what comes later.
    pub(super) fn assign(
        &mut self,
        wishes: &[Wish],
        is_fresh: bool,
        mistakes: &mut Vec<Mistake>,
        mut named: impl FnMut(&mut Self, usize, &str),
    ) -> Vec<String> {
        let mut names = vec![String::new(); wishes.len()];
        let mut turns: [Vec<usize>; 4] = Default::default();
        for (at, wish) in wishes.iter().enumerate() {
            let turn = match (&wish.given, &wish.remembered) {
                (None, Some(_)) => 0,
                (None, None) if is_fresh => 1,
                (Some(_), _) => 2,
                (None, None) => 3,
            };
            turns[turn].push(at);
        }
        for mut turn in turns {
            turn.sort_by_key(|at| {
                wishes[*at].given.is_none() && wishes[*at].remembered.is_none() && !wishes[*at].is_exact
            });
            for &at in &turn {
                let Wish { what, given, remembered, by_rule, is_exact: _ } = &wishes[at];
                names[at] = match (given, remembered) {
                    (Some((name, place)), _) => {
                        if let Some(holder) = self.taken.get(name) {
                            mistakes.push(mistake(*place, name, what, &holder.what));
                        }
                        self.hold(name, Holder { what: what.clone(), given: Some(*place) });
                        name.clone()
                    }
                    (None, Some(name)) => self.take_own(what, std::slice::from_ref(name), mistakes),
                    (None, None) if is_fresh => self.take_own(what, by_rule, mistakes),
                    (None, None) => self.take_or_number(by_rule),
                };
            }
            turn.iter().for_each(|at| named(self, *at, &names[*at]));
        }
        names
    }

    /// The names that are taken.
    #[cfg(test)]
    pub(super) fn names(&self) -> HashSet<&str> {
        self.taken.keys().map(String::as_str).collect()
    }
}

fn of_every_schema() -> Holder {
    Holder { what: "something that every schema has".to_owned(), given: None }
}

fn mistake(place: Place, name: &str, what: &str, other: &str) -> Mistake {
    let text =
        format!("`{name}` cannot be the name of {what}: {other} has it; choose another, or rename or hide what has it");
    Mistake { place, text }
}

fn first_free(wanted: &[String], is_free: impl Fn(&String) -> bool) -> String {
    let numbered = (2..).map(|number| format!("{}{number}", wanted[0]));
    wanted.iter().cloned().chain(numbered).find(is_free).expect("there is always a next number")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn wish(what: &str, given: Option<&str>, remembered: Option<&str>, by_rule: &str) -> Wish {
        let given = given.map(|name| (name.to_owned(), Place { line: 7, column: 1, ..Place::default() }));
        Wish {
            what: what.to_owned(),
            given,
            remembered: remembered.map(str::to_owned),
            by_rule: vec![by_rule.to_owned()],
            is_exact: false,
        }
    }

    fn assign(wishes: &[Wish], is_fresh: bool) -> (Vec<String>, Vec<String>) {
        let mut mistakes = Vec::new();
        let names = Register::default().assign(wishes, is_fresh, &mut mistakes, |_, _, _| ());
        (names, mistakes.into_iter().map(|mistake| mistake.text).collect())
    }

    #[test]
    fn a_newcomer_yields() {
        let known = [wish("old", None, Some("hut"), "hut"), wish("new", None, None, "hut")];
        assert_eq!(assign(&known, false), (vec!["hut".into(), "hut2".into()], vec![]));
    }

    #[test]
    fn what_is_called_so_letter_by_letter_comes_first() {
        let altered = Wish { by_rule: vec!["id".into(), "_id".into()], ..wish("`_id`", None, None, "") };
        let exact = Wish { is_exact: true, ..wish("`id`", None, None, "id") };
        assert_eq!(assign(&[altered, exact], true).0, ["_id", "id"]);
    }

    #[test]
    fn words_are_tried_before_numbers() {
        let mut register = Register::of_types(false);
        let wanted = ["Booking".to_owned(), "BookingTable".to_owned()];
        let mut take = || register.take_or_number(&wanted);
        assert_eq!([take(), take(), take(), take()], ["Booking", "BookingTable", "Booking2", "Booking3"]);
    }

    #[test]
    fn helpers_give_way_together() {
        let mut register = Register::of_types(false);
        assert!(register.take("BookingFilter"));
        let wanted = ["Booking".to_owned(), "BookingRow".to_owned()];
        assert_eq!(register.take_helpers("`Booking`", None, &wanted, &["Filter", "Key"]), "BookingRow");
        assert!(register.names().contains("BookingRowKey") && !register.names().contains("BookingKey"));
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
