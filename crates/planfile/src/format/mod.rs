//! The plan format, described once: which tables there are, which keys they have, what a key takes, what it means, and
//! which entries it names.
//!
//! Everything that has to know the format asks here: reading ([`crate::read`]), the JSON Schema ([`crate::schema`]),
//! changes from the command line and renaming ([`crate::edit`]), and the reference in `docs/plan-file.md`.

mod network;
mod tables;
mod traffic;

pub use tables::PLAN;

/// A table of the format.
#[derive(Debug)]
#[non_exhaustive]
pub struct Table {
    /// How its heading is written: `site`, `gateway.limits`, or `network.NAME` for one that has entries. Empty for the
    /// whole file.
    pub heading: &'static str,
    /// What it describes.
    pub about: &'static str,
    /// Its keys, in the order in which they are best written.
    pub keys: &'static [Key],
}

impl Table {
    /// A key by its name.
    pub fn key(&self, name: &str) -> Option<&'static Key> {
        self.keys.iter().find(|key| key.name == name)
    }

    /// The table under a heading's words without the names of entries: `network`, `gateway.limits`, `switch.ports`.
    pub fn of(words: &str) -> Option<&'static Self> {
        words.split('.').try_fold(&PLAN, |table, word| match table.key(word)?.takes {
            Takes::Table(inner) | Takes::Entries(inner) | Takes::Tables(inner) => Some(inner),
            _ => None,
        })
    }
}

/// A key of a table.
#[derive(Debug)]
#[non_exhaustive]
pub struct Key {
    /// Its name.
    pub name: &'static str,
    /// What it takes.
    pub takes: Takes,
    /// Whether the table makes no sense without it.
    pub needed: bool,
    /// What it says.
    pub about: &'static str,
    /// What counts where it is not there, in words or as it would be written; empty where nothing does.
    pub default: &'static str,
    /// A value, as it is written in TOML; empty for tables.
    pub example: &'static str,
    /// Which entries it names.
    pub names: Option<Names>,
}

/// What a key takes.
#[derive(Clone, Copy, Debug)]
pub enum Takes {
    /// A text.
    Text,
    /// A text for people, in which a comma separates nothing.
    Prose,
    /// A text with the form of a name: a lower-case word of letters, digits and single hyphens.
    Name,
    /// One of these words.
    Choice(&'static [&'static str]),
    /// A text or a list of them.
    Texts,
    /// The same, where one is the exception: typed on the command line it becomes a list.
    List,
    /// The number of the edition.
    Edition,
    /// A whole number from the first to the last.
    Whole(u32, u32),
    /// A number, with or without a fraction.
    Number,
    /// `true` or `false`.
    Flag,
    /// Days of the week: texts, in which a comma separates nothing when they are typed.
    Days,
    /// A day: `2027-03-31`, as a text or as a date.
    Day,
    /// A range, or `false`.
    RangeOrOff,
    /// Texts under names that are free: `[known]`.
    NamedTexts,
    /// Lists of texts under names that are free: `[gateway.aggregate]`.
    NamedLists,
    /// A table.
    Table(&'static Table),
    /// A list of tables.
    Tables(&'static Table),
    /// Tables under names that are free: `[network.NAME]`.
    Entries(&'static Table),
}

impl Takes {
    /// In words, as behind "takes".
    pub fn words(self) -> &'static str {
        match self {
            Self::Text | Self::Prose | Self::Name | Self::Choice(_) | Self::Day => {
                "a text in quotes"
            }
            Self::Edition => "the number of the edition, 1",
            Self::Texts | Self::List | Self::Days => "a text in quotes, or a list of them",
            Self::Whole(..) => "a whole number",
            Self::Number => "a number",
            Self::Flag => "true or false",
            Self::RangeOrOff => "a range like \"50-199\", or false",
            Self::Tables(_) => "a list of tables",
            Self::NamedTexts | Self::NamedLists | Self::Table(_) | Self::Entries(_) => "a table",
        }
    }
}

/// The entries that a key can name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Names {
    /// Endpoints: expressions over zones, networks, tunnels, routes, hosts, groups, domains and uplinks.
    Places,
    /// One zone.
    Zone,
    /// One network, or several.
    Network,
    /// One uplink.
    Uplink,
    /// Services.
    Services,
    /// Exceptions and inbound entries.
    Permissions,
    /// Hours.
    Hours,
    /// `switch:port`.
    SwitchPort,
    /// Access points.
    AccessPoints,
}

impl Key {
    const fn new(name: &'static str, takes: Takes, about: &'static str) -> Self {
        Self { name, takes, needed: false, about, default: "", example: "", names: None }
    }

    const fn needed(self) -> Self {
        Self { needed: true, ..self }
    }

    const fn default(self, default: &'static str) -> Self {
        Self { default, ..self }
    }

    const fn example(self, example: &'static str) -> Self {
        Self { example, ..self }
    }

    const fn names(self, names: Names) -> Self {
        Self { names: Some(names), ..self }
    }
}

/// The tables that have entries, by the words of their headings, in the order in which they are described.
pub fn kinds() -> impl Iterator<Item = &'static str> + Clone {
    PLAN.keys.iter().filter(|key| matches!(key.takes, Takes::Entries(_))).map(|key| key.name)
}

/// The tables without entries whose keys can be set.
pub fn single() -> impl Iterator<Item = &'static str> + Clone {
    let inner = |key: &'static Key| match key.takes {
        Takes::Table(table) => Some(table),
        _ => None,
    };
    PLAN.keys.iter().filter_map(inner).flat_map(move |table| {
        let below = table.keys.iter().filter_map(inner);
        [table].into_iter().chain(below).map(|table| table.heading)
    })
}

/// Every table of the format, each once, an outer one before those inside it.
pub fn all_tables() -> Vec<&'static Table> {
    let mut tables = vec![&PLAN];
    let mut next = 0;
    while let Some(table) = tables.get(next) {
        next += 1;
        let inner = table.keys.iter().filter_map(|key| match key.takes {
            Takes::Table(inner) | Takes::Entries(inner) | Takes::Tables(inner) => Some(inner),
            _ => None,
        });
        let new: Vec<_> =
            inner.filter(|t| !tables.iter().any(|known| std::ptr::eq(*known, *t))).collect();
        tables.splice(next..next, new);
    }
    tables
}
