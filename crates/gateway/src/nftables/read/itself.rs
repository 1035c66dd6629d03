//! Packets that a gateway sends to itself: over `lo`, with its own addresses at both ends. No cable carries them and
//! no cell of the plan is about them, but name service, time and leases stop working where they are dropped.

use super::ruleset::Side;
use super::world::{Place, PlanWorld, World, fits, left_untracked};
use bastium_core::plan::Plan;
use bastium_core::space::{AddressSet, IntervalSet, Match, ServiceSet};

/// The world of what comes in by `lo`. It enters where the gateway's own packets do.
pub(crate) struct ByItself<'w, 'p> {
    plan: &'p Plan,
    around: &'w PlanWorld<'p>,
}

impl<'w, 'p> ByItself<'w, 'p> {
    /// The same gateway as in another world.
    pub(crate) fn of(plan: &'p Plan, around: &'w PlanWorld<'p>) -> Self {
        Self { plan, around }
    }

    /// Everything that comes in by `lo`, which has no neighbours to discover.
    pub(crate) fn everything(&self) -> Match {
        Match {
            enters: IntervalSet::point(self.plan.gateway_interface()),
            source: self.own(),
            destination: self.own(),
            service: ServiceSet::any().difference(&left_untracked()),
            ..Match::everything()
        }
    }
}

fn nothing() -> Match {
    Match { enters: IntervalSet::empty(), ..Match::everything() }
}

impl World for ByItself<'_, '_> {
    fn at(&self, place: Place) -> Match {
        match place {
            Place::Input | Place::Prerouting => self.everything(),
            Place::Forward | Place::Output | Place::Postrouting => nothing(),
        }
    }

    fn interface(&self, side: Side, name: &str) -> Vec<Match> {
        let here = side == Side::In && fits(name, "lo");
        vec![if here { self.everything() } else { nothing() }]
    }

    fn translated(&self) -> Match {
        nothing()
    }

    fn own(&self) -> AddressSet {
        self.around.own()
    }

    fn meant(&self, written: AddressSet) -> AddressSet {
        self.around.meant(written)
    }

    fn filled(&self, set: &str) -> Option<AddressSet> {
        self.around.filled(set)
    }
}
