//! Where the parts of a row's JSON are that an answer asks for: found in one walk over it, which turns nothing into values.

use crate::error::{Code, Problem};
use crate::plan::{BoundPlan, ItemField, ItemShape, ItemValue, ListShape};
use crate::rows::too_large;
use crate::value::{STORED_LEVELS, after_space, is_called, past_list, past_object, past_value};

/// Where a part begins and ends, and where the places of what is inside it stand among all.
///
/// An object has one for each of its fields, in their order. A list of objects has, one after another, each item that is answered,
/// with what is inside it behind it.
#[derive(Debug, Clone, Copy)]
pub(super) struct Place {
    start: u32,
    end: u32,
    /// The first place of what is inside.
    inside: u32,
    /// The first place behind what is inside.
    after: u32,
}

impl Place {
    /// That of what is not there.
    const NOWHERE: Place = Place { start: 0, end: 0, inside: 0, after: 0 };

    /// None of what is beyond 4 GB.
    fn new(start: usize, end: usize, inside: usize, after: usize) -> Option<Self> {
        let number = |number: usize| u32::try_from(number).ok();
        Some(Place { start: number(start)?, end: number(end)?, inside: number(inside)?, after: number(after)? })
    }

    fn is_somewhere(self) -> bool {
        self.start < self.end
    }
}

/// What an answer asks for of a part of JSON.
#[derive(Clone, Copy)]
pub(super) enum Wanted<'a> {
    /// A single value.
    Value,
    /// Members of an object.
    Object(&'a ItemShape),
    /// Items of a list of objects.
    List(&'a ListShape),
}

/// How often bytes of an answer at the most may be gone over on the way to it. What is read once is never near that.
const WALKS: usize = 64;

/// How much JSON an answer may still go over: a list that is asked for under many names is gone over once for each, whatever of it is
/// written.
#[derive(Debug)]
pub(super) struct WalkBudget {
    /// The most bytes of the answer.
    most_bytes: usize,
    /// Bytes that may still be gone over; none once there were too many.
    left: Option<usize>,
}

impl WalkBudget {
    pub(super) fn new(most_bytes: usize) -> Self {
        WalkBudget { most_bytes, left: Some(most_bytes.saturating_mul(WALKS)) }
    }

    fn spend(&mut self, bytes: usize) -> Option<()> {
        self.left = self.left.and_then(|left| left.checked_sub(bytes));
        self.left.map(|_| ())
    }

    fn is_spent(&self) -> bool {
        self.left.is_none()
    }

    fn problem(&self) -> Problem {
        let most = self.most_bytes.saturating_mul(WALKS);
        let text = format!(
            "the request goes over JSON too often: over {most} bytes in all, {WALKS} times the limit of `answer_bytes` in `[limits]`; \
             ask for lists under fewer names, or for fewer rows"
        );
        Problem::new(Code::TooCostly, text)
    }
}

impl<'a> From<&'a ItemValue> for Wanted<'a> {
    fn from(value: &'a ItemValue) -> Self {
        match value {
            ItemValue::Leaf(_) | ItemValue::Beside(_) => Wanted::Value,
            ItemValue::Object(item) => Wanted::Object(item),
            ItemValue::Items(list) => Wanted::List(list),
        }
    }
}

/// A row's JSON with the places of its parts.
#[derive(Clone, Copy)]
pub(super) struct Part<'j> {
    json: &'j [u8],
    places: &'j [Place],
    place: Place,
}

impl<'j> Part<'j> {
    /// The part that is the whole of some JSON; none where that is no JSON.
    ///
    /// # Errors
    /// `TOO_COSTLY` where what would be written of it is more than an answer may have, or where the answer goes over JSON too often.
    pub(super) fn whole(
        bound: &BoundPlan,
        wanted: Wanted<'_>,
        json: &'j [u8],
        places: &'j mut Vec<Place>,
        budget: &mut WalkBudget,
    ) -> Result<Option<Self>, Problem> {
        places.clear();
        let most_places = budget.most_bytes / BYTES_PER_PLACE;
        let mut walk = Walk { bound, json, places, most_places, budget };
        let place = walk.part(wanted, after_space(json, 0), STORED_LEVELS);
        if most_places < walk.places.len() {
            return Err(too_large(budget.most_bytes));
        }
        if budget.is_spent() {
            return Err(budget.problem());
        }
        let is_whole = |place: &Place| after_space(json, place.end as usize) == json.len();
        Ok(place.filter(is_whole).map(|place| Part { json, places, place }))
    }

    /// As it is written.
    pub(super) fn text(&self) -> &'j [u8] {
        &self.json[self.place.start as usize..self.place.end as usize]
    }

    /// What stands at a place of its fields; of an item, behind those of its fields is what comes beside it.
    pub(super) fn field(&self, number: usize) -> Option<Self> {
        let place = self.places[self.place.inside as usize + number];
        place.is_somewhere().then_some(Part { place, ..*self })
    }

    /// The items of a list that are answered.
    pub(super) fn items(&self) -> impl Iterator<Item = Self> {
        let (whole, mut next) = (*self, self.place.inside);
        std::iter::from_fn(move || {
            let place = *whole.places.get(next as usize).filter(|_| next < whole.place.after)?;
            next = place.after;
            Some(Part { place, ..whole })
        })
    }
}

/// How many items of a list are answered, and after how many.
struct Page {
    first: usize,
    skip: usize,
}

impl Page {
    fn of(bound: &BoundPlan, list: &ListShape) -> Self {
        let value = |parameter: usize| usize::try_from(bound.integer(parameter)).unwrap_or(0);
        Page { first: list.first.map_or(usize::MAX, value), skip: list.skip.map_or(0, value) }
    }

    fn has(&self, number: usize) -> bool {
        number.checked_sub(self.skip).is_some_and(|number| number < self.first)
    }
}

/// No place stands for less of an answer: an item for its braces and comma, a field of it for its key and `null`.
const BYTES_PER_PLACE: usize = 4;

struct Walk<'w, 'j> {
    bound: &'w BoundPlan,
    json: &'j [u8],
    places: &'w mut Vec<Place>,
    /// The walk ends where there are more.
    most_places: usize,
    /// And where it is spent.
    budget: &'w mut WalkBudget,
}

impl Walk<'_, '_> {
    /// The part that begins at `at`. What is of another type than is wanted is a single value.
    fn part(&mut self, wanted: Wanted<'_>, at: usize, levels: usize) -> Option<Place> {
        match (wanted, self.json.get(at)?) {
            (Wanted::Object(shape), b'{') => self.object(shape, 0, at, levels),
            (Wanted::List(list), b'[') => self.list(list, at, levels),
            _ => {
                let end = self.pass(at, levels)?;
                Place::new(at, end, 0, 0)
            }
        }
    }

    /// Where the value that begins at `at` ends, of which nothing else is wanted.
    fn pass(&mut self, at: usize, levels: usize) -> Option<usize> {
        let end = past_value(self.json, at, levels)?;
        self.budget.spend(end - at)?;
        Some(end)
    }

    /// An object, with so many places more behind those of its fields.
    fn object(&mut self, shape: &ItemShape, more: usize, at: usize, levels: usize) -> Option<Place> {
        let inside = self.places.len();
        self.make_room(shape.fields.len() + more)?;
        let json = self.json;
        let end = past_object(json, at, levels, |name, at, levels| {
            let mut end = None;
            // Each field is compared with it.
            self.budget.spend(name.len() + shape.fields.len())?;
            for (number, (_, field)) in shape.fields.iter().enumerate() {
                let ItemField::Member { member, value, .. } = field else { continue };
                // Of several of one name the first counts, as for the engines that keep several.
                if !is_called(name, member) || self.places[inside + number].is_somewhere() {
                    continue;
                }
                let place = self.part(Wanted::from(value), at, levels)?;
                self.places[inside + number] = place;
                end = Some(place.end as usize);
                if !shape.repeats {
                    break;
                }
            }
            end.or_else(|| self.pass(at, levels))
        })?;
        Place::new(at, end, inside, self.places.len())
    }

    fn make_room(&mut self, more: usize) -> Option<()> {
        self.places.resize(self.places.len() + more, Place::NOWHERE);
        (self.places.len() <= self.most_places).then_some(())
    }

    fn list(&mut self, list: &ListShape, at: usize, levels: usize) -> Option<Place> {
        let (page, inside, mut number) = (Page::of(self.bound, list), self.places.len(), 0);
        let json = self.json;
        let end = past_list(json, at, levels, |at, levels| {
            number += 1;
            if !page.has(number - 1) {
                return self.pass(at, levels);
            }
            let place = self.places.len();
            self.make_room(1)?;
            let (item, end) = if list.beside.is_empty() {
                let item = self.part(Wanted::Object(&list.item), at, levels)?;
                (item, item.end as usize)
            } else {
                self.item_and_beside(list, at, levels)?
            };
            self.places[place] = Place { after: u32::try_from(self.places.len()).ok()?, ..item };
            Some(end)
        })?;
        Place::new(at, end, inside, self.places.len())
    }

    /// An item that is delivered as a list of itself and of what comes beside it; and where that list ends.
    fn item_and_beside(&mut self, list: &ListShape, at: usize, levels: usize) -> Option<(Place, usize)> {
        let (json, mut item, mut number) = (self.json, None, 0usize);
        let end = past_list(json, at, levels, |at, levels| {
            number += 1;
            let (Some(Place { inside, .. }), Some(beside)) = (item, number.checked_sub(2)) else {
                let place = match json.get(at)? {
                    b'{' => self.object(&list.item, list.beside.len(), at, levels)?,
                    _ => self.part(Wanted::Value, at, levels)?,
                };
                item = Some(place);
                return Some(place.end as usize);
            };
            let place = self.part(Wanted::List(list.beside.get(beside)?), at, levels)?;
            // Beside what is no object there is nothing.
            if item.is_some_and(|item| json[item.start as usize] == b'{') {
                self.places[inside as usize + list.item.fields.len() + beside] = place;
            }
            Some(place.end as usize)
        })?;
        Some((item?, end))
    }
}
