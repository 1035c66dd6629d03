//! Numbers for the entries of a plan, with a type for each kind of entry, so that a zone's number cannot be used as a
//! host's.

macro_rules! numbers {
    ($($(#[$doc:meta])* $name:ident),*) => {$(
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $name(pub(crate) usize);

        impl $name {
            /// Its place in the plan's list.
            pub fn index(self) -> usize {
                self.0
            }
        }
    )*};
}
pub(super) use numbers;

numbers! {
    /// A zone of one plan.
    ZoneId,
    /// A network of one plan.
    NetworkId,
    /// A host of one plan.
    HostId,
    /// An exception of one plan.
    ExceptionId
}
