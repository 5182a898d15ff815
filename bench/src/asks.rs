//! What is asked: Puente by a document, the floor by a handler for exactly this request.

/// One request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Ask {
    ByKey,
    Page,
    ThreeLevels,
    FiveLevels,
    FilterThroughLinks,
    ManyToMany,
    /// Five members and a list of objects out of JSON.
    InsideJson,
    /// Rows found by a member of their JSON, of which there is an index where the engine has such.
    ByMember,
    /// The three levels as a warden, with a rule on every level.
    AsWarden,
}

/// The warden who asks: one with as many huts as anybody.
pub(crate) const WARDEN: i32 = 14;

/// The grants that the warden asks with, added to the demo's.
pub(crate) const ROLES: &str = r#"
[role.bench]
include = ["warden"]
[role.bench.Region.read]
fields = ["name"]
rows = "row.huts.exists(h, h.wardenId == claims.sub)"
[role.bench.Hut.read]
fields = ["name", "region", "bookings"]
rows = "row.wardenId == claims.sub"
[role.bench.Trail.read]
fields = ["name"]
"#;

impl Ask {
    pub(crate) const ALL: [Ask; 9] = [
        Ask::ByKey,
        Ask::Page,
        Ask::ThreeLevels,
        Ask::FiveLevels,
        Ask::FilterThroughLinks,
        Ask::ManyToMany,
        Ask::InsideJson,
        Ask::ByMember,
        Ask::AsWarden,
    ];

    pub(crate) fn name(self) -> &'static str {
        match self {
            Ask::ByKey => "by key",
            Ask::Page => "page of 50",
            Ask::ThreeLevels => "three levels",
            Ask::FiveLevels => "five levels",
            Ask::FilterThroughLinks => "filter through links",
            Ask::ManyToMany => "many to many, counted",
            Ask::InsideJson => "20 reports, inside JSON",
            Ask::ByMember => "reports by a member",
            Ask::AsWarden => "three levels as warden",
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
            Ask::ThreeLevels | Ask::AsWarden => {
                "{ huts(first: 20) { nodes { name region { name } bookings(first: 10) { nodes { startsOn hiker { name } } } } } }"
            }
            Ask::FiveLevels => {
                "{ regions(first: 4) { nodes { name huts(first: 5) { nodes { name bookings(first: 5) { nodes { startsOn hiker { name badges(first: 3) { nodes { title } } } } } } } } } }"
            }
            Ask::FilterThroughLinks => {
                "{ bookings(filter: { hut: { altitude: { gt: 2500 } }, hiker: { name: { startsWith: \"A\" } } }, first: 20) { nodes { id startsOn } } }"
            }
            Ask::InsideJson => {
                "{ incidents(first: 20) { nodes { report { kind severity weather { snow temperature wind { gusts } } people { name age injured } } } } }"
            }
            Ask::ByMember => {
                "{ incidents(filter: { report: { weather: { snow: { eq: 100 } } } }, first: 20) { nodes { id } } }"
            }
            Ask::ManyToMany => {
                "{ trails(first: 10) { nodes { name huts(first: 5) { totalCount edges { position node { name } } } } } }"
            }
        }
    }
}
