//! Whether a rule must state that it is only for translated packets, or only for untranslated ones.
//!
//! Translated packets have interface numbers of their own here, so that lists can tell them apart. On a gateway that
//! translates before it filters, a rule is entered for both unless that would change what happens to some packet.

use super::{Effect, Rule, RuleList, RuleSet};
use crate::space::{Interface, IntervalSet, Match, PacketSet};
use crate::verdict::{Cause, Spoofing};

impl RuleSet<'_> {
    /// Whether a rule of a list would do something else if it were for packets that were translated and for packets that
    /// were not alike.
    pub fn tells_forwarded(&self, list: &RuleList, rule: &Rule) -> bool {
        let plan = self.plan;
        let Some(packets) = rule.first_packets() else { return false };
        // A source that is not true is none after translation either.
        let by_source =
            matches!(rule.cause, Cause::Spoofed(kind, _) if kind != Spoofing::ToPrivate);
        if self.translations.is_empty() || self.before_translation || by_source {
            return false;
        }
        let all = || (0..=plan.gateway_interface().0).map(Interface);
        let plain: IntervalSet<Interface> =
            all().filter(|one| packets.enters.contains(*one)).collect();
        let translated = |one: &Interface| plan.translated_interface(*one);
        let forwarded: IntervalSet<Interface> =
            all().filter(|one| packets.enters.contains(translated(one))).collect();
        let lacks = |here: &IntervalSet<Interface>, there: &IntervalSet<Interface>| {
            all().filter(|one| here.contains(*one) && !there.contains(*one)).collect::<Vec<_>>()
        };
        let more = lacks(&plain, &forwarded).iter().map(translated).collect();
        let image = self.translations.iter().map(|one| one.apply_to(&PacketSet::from(&one.takes)));
        let image = image.fold(PacketSet::empty(), |all, one| all.union(&one));
        let fewer = lacks(&forwarded, &plain).into_iter().collect();
        self.would_take((list, rule), &Match { enters: more, ..packets.clone() }.into(), &image)
            || self.would_take(
                (list, rule),
                &Match { enters: fewer, ..packets.clone() }.into(),
                &PacketSet::full(),
            )
    }

    /// Whether a rule that had these packets, too, would take some of those that can come from rules that do something
    /// else.
    fn would_take(
        &self,
        (list, rule): (&RuleList, &Rule),
        packets: &PacketSet,
        coming: &PacketSet,
    ) -> bool {
        let plan = self.plan;
        let asked = list.covers.products().map(|product| {
            let came_by = plan.came_by_any(&product.enters);
            let all = (0..=plan.gateway_interface().0).map(Interface);
            let forwarded = all
                .filter(|one| came_by.contains(*one))
                .map(|one| plan.translated_interface(one))
                .collect::<IntervalSet<Interface>>();
            Match { enters: came_by.union(&forwarded), ..product }
        });
        let asked: PacketSet = asked.collect();
        let packets = packets.intersection(coming).intersection(&asked);
        if packets.is_empty() {
            return false;
        }
        self.parts(&packets).iter().any(|(_, outcome)| {
            let above = outcome.rule.is_some_and(|other| other.number < rule.number);
            let same = match outcome.rule {
                Some(other) => Effect::of(other) == Effect::of(rule),
                None => Effect::silent(outcome.action) == Effect::of(rule),
            };
            !above && !same
        })
    }
}
