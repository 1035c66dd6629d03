//! The form `one-list`: one list for all routed traffic, one for traffic to the gateway, and before both
//! the few rules that hold for everything.

use super::reachability::translated;
use super::{CompileContext, Otherwise, RuleList, RuleSet, Stage, implicit_traffic};
use crate::plan::Form;
use crate::space::PacketSet;

pub(super) fn compile<'p>(mut context: CompileContext<'p>) -> RuleSet<'p> {
    let through = std::mem::take(&mut context.base.through);
    context.finish(Form::OneList, lists(&context, through))
}

/// The lists, with these rules for what the gateway passes on.
pub(super) fn lists(context: &CompileContext<'_>, through: Vec<super::Rule>) -> Vec<RuleList> {
    let plan = context.plan;
    let arriving = PacketSet::from(implicit_traffic::arriving(plan));
    let passed_on = arriving.union(&PacketSet::from(translated(plan)));
    let list = RuleList::of_stage;
    vec![
        list(Stage::Opening, context.base.opening.clone(), Otherwise::GoOn, arriving),
        list(
            Stage::ToGateway,
            context.base.to_gateway.clone(),
            Otherwise::Block,
            implicit_traffic::for_gateway(plan),
        ),
        list(Stage::Through, through, Otherwise::Block, passed_on),
        from_gateway(context),
    ]
}

/// The list for connections that the gateway opens itself.
pub(super) fn from_gateway(context: &CompileContext<'_>) -> RuleList {
    let covers = PacketSet::from(implicit_traffic::entering(context.plan.gateway_interface()));
    RuleList::of_stage(Stage::FromGateway, context.base.begun.clone(), Otherwise::Allow, covers)
}
