//! What is asked: Puente by a document, the floor by a handler for exactly this ask.

/// One ask.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Ask {
    ByKey,
    Page,
    ThreeLevels,
    FiveLevels,
    FilterThroughLinks,
    ManyToMany,
}

impl Ask {
    pub(crate) const ALL: [Ask; 6] =
        [Ask::ByKey, Ask::Page, Ask::ThreeLevels, Ask::FiveLevels, Ask::FilterThroughLinks, Ask::ManyToMany];

    pub(crate) fn name(self) -> &'static str {
        match self {
            Ask::ByKey => "by key",
            Ask::Page => "page of 50",
            Ask::ThreeLevels => "three levels",
            Ask::FiveLevels => "five levels",
            Ask::FilterThroughLinks => "filter through links",
            Ask::ManyToMany => "many to many, counted",
        }
    }

    /// The path of the floor's handler.
    pub(crate) fn path(self) -> String {
        format!("/{}", self.name().replace([' ', ','], "-"))
    }

    pub(crate) fn document(self) -> &'static str {
        match self {
            Ask::ByKey => "{ hut(key: { id: 7 }) { name altitude code } }",
            Ask::Page => "{ bookings(first: 50) { nodes { id startsOn nights status price } } }",
            Ask::ThreeLevels => {
                "{ huts(first: 20) { nodes { name region { name } bookings(first: 10) { nodes { startsOn hiker { name } } } } } }"
            }
            Ask::FiveLevels => {
                "{ regions(first: 4) { nodes { name huts(first: 5) { nodes { name bookings(first: 5) { nodes { startsOn hiker { name badges(first: 3) { nodes { title } } } } } } } } } }"
            }
            Ask::FilterThroughLinks => {
                "{ bookings(filter: { hut: { altitude: { gt: 2500 } }, hiker: { name: { startsWith: \"A\" } } }, first: 20) { nodes { id startsOn } } }"
            }
            Ask::ManyToMany => {
                "{ trails(first: 10) { nodes { name huts(first: 5) { totalCount edges { position node { name } } } } } }"
            }
        }
    }
}
