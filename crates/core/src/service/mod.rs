//! Services in the plan's words: literals such as `tcp/443`, and the built-in catalogue.

mod catalogue;
mod literal;

pub use catalogue::{BUILT_IN, BuiltIn, Direction, built_in, meant, search};
pub use literal::{LiteralProblem, parse_literal};
