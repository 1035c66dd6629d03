//! The form `one-list`: one list for all routed traffic, one for traffic to the gateway, and before both
//! the few rules that hold for everything.

use super::ways::translated;
use super::{Job, Otherwise, RuleList, RuleSet, Stage, frame};
use crate::plan::Form;
use crate::space::PacketSet;

pub(super) fn compile(job: &Job<'_>) -> RuleSet {
    job.finish(Form::OneList, lists(job, job.base.through.clone()))
}

/// The lists, with these rules for what the gateway passes on.
pub(super) fn lists(job: &Job<'_>, through: Vec<super::Rule>) -> Vec<RuleList> {
    let plan = job.plan;
    let arriving = PacketSet::from(frame::arriving(plan));
    let passed_on = arriving.union(&PacketSet::from(translated(plan)));
    let list = RuleList::of_stage;
    vec![
        list(Stage::Opening, job.base.opening.clone(), Otherwise::GoOn, arriving),
        list(
            Stage::ToGateway,
            job.base.to_gateway.clone(),
            Otherwise::Block,
            frame::for_gateway(plan),
        ),
        list(Stage::Through, through, Otherwise::Block, passed_on),
        from_gateway(job),
    ]
}

/// The list for what the gateway itself begins.
pub(super) fn from_gateway(job: &Job<'_>) -> RuleList {
    let covers = PacketSet::from(frame::entering(job.plan.gateway_leg()));
    RuleList::of_stage(Stage::FromGateway, job.base.begun.clone(), Otherwise::Allow, covers)
}
