//! Compares what a gateway does with what the plan means.
//!
//! The lines come from whatever the gateway runs: a file that was read back, or a list that somebody else wrote. What
//! the plan expects comes from its meaning alone, never from the compiled rules, so a mistake is found no matter
//! where it was made: in the compiler, in a writer, or on the gateway.

use super::cell::place;
use super::comparison::compare;
use super::fate::Fate;
use super::lines::{Expects, MeaningLines, Reading};
use super::partition::Partition;
use super::prove::gathered;
use super::table::Table;
use crate::example;
use crate::meaning::Meaning;
use crate::space::{Match, Packet, PacketSet};
use crate::verdict::Decision;

/// One line of what a gateway does; of several that match a packet the first decides.
#[derive(Clone, Debug)]
pub struct CarriedLine {
    /// What it matches: any of these products.
    pub matches: Vec<Match>,
    /// What happens.
    pub fate: Fate,
}

impl CarriedLine {
    /// A line.
    pub fn new(matches: Vec<Match>, fate: Fate) -> Self {
        Self { matches, fate }
    }
}

/// Packets that a gateway treats otherwise than the plan says.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Divergence {
    /// One of them, between addresses in use if possible.
    pub packet: Packet,
    /// All that differ in the same way.
    pub packets: PacketSet,
    /// What the plan means; `None` where it was compared with expected lines.
    pub meaning: Option<Decision>,
    /// The expected line, by its place; or the decision, by its place among all of the plan's.
    pub expected: usize,
    /// The gateway's line, by its place; their number where no line takes the packets.
    pub line: usize,
}

/// What a comparison came to.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Carried {
    /// Where the two differ.
    pub divergences: Vec<Divergence>,
    /// How many questions could not be decided in the steps that are allowed.
    pub undecided: usize,
}

impl Carried {
    /// Whether both were shown to be the same.
    pub fn holds(&self) -> bool {
        self.divergences.is_empty() && self.undecided == 0
    }
}

/// Holds a gateway's lines against the plan, over every packet. A packet that no line takes differs from
/// whatever is expected of it.
pub fn carried(meaning: &Meaning<'_>, lines: &[CarriedLine], expects: Expects<'_>) -> Carried {
    let partition = Partition::of(meaning);
    let reading = Reading { expects: Some(expects), ..Reading::default() };
    let means = MeaningLines::new(meaning, &partition, &reading);
    let mut result = held(meaning, &means.table, &closed(&partition, lines));
    for divergence in &mut result.divergences {
        divergence.meaning = means.decisions.get(divergence.expected).copied();
    }
    result
}

/// Holds a gateway's lines against lines that are expected of it, over every packet.
pub fn alike(meaning: &Meaning<'_>, expected: &[CarriedLine], lines: &[CarriedLine]) -> Carried {
    let partition = Partition::of(meaning);
    held(meaning, &table(&partition, expected), &closed(&partition, lines))
}

/// What becomes of a packet that no line takes: like nothing else, so that no gap goes unseen.
const TAKEN_BY_NONE: Fate = Fate::Value(u32::MAX);

fn closed<'f>(partition: &'f Partition, lines: &[CarriedLine]) -> Table<'f> {
    let mut table = table(partition, lines);
    table.push(&PacketSet::full(), TAKEN_BY_NONE, place(lines.len()));
    table
}

fn table<'f>(partition: &'f Partition, lines: &[CarriedLine]) -> Table<'f> {
    let mut table = Table::new(partition, 0);
    for (owner, line) in (0u32..).zip(lines) {
        for product in &line.matches {
            table.push(&product.into(), line.fate, owner);
        }
    }
    table
}

fn held(meaning: &Meaning<'_>, expected: &Table<'_>, lines: &Table<'_>) -> Carried {
    let compared = compare(expected, lines);
    let clashes = gathered(compared.clashes).into_iter();
    let divergences = clashes.filter_map(|clash| {
        let packet = example::packet(meaning.plan(), &clash.packets)
            .filter(|packet| clash.packets.contains(packet))
            .or_else(|| clash.packets.sample())?;
        Some(Divergence {
            packet,
            packets: clash.packets,
            meaning: None,
            expected: clash.one as usize,
            line: clash.other as usize,
        })
    });
    Carried { divergences: divergences.collect(), undecided: compared.undecided }
}
