//! Addresses as numbers, for code that is the same for both families.

use super::{AsPoint, Block, PacketSet, Region};

/// An address of one family, as the number that it is.
pub trait AddressBits: AsPoint + std::hash::Hash {
    /// The blocks of a set in this family.
    fn blocks(set: &PacketSet) -> &[Block<Self>];
    /// The set of a region.
    fn region(region: Region<Self>) -> PacketSet;
    /// An address as a number that is wide enough for both families.
    fn bits(self) -> u128;
    /// The address of such a number; `None` for one too large.
    fn from_bits(bits: u128) -> Option<Self>;
}

macro_rules! family {
    ($number:ty, $side:ident) => {
        impl AddressBits for $number {
            fn blocks(set: &PacketSet) -> &[Block<Self>] {
                set.$side.blocks()
            }

            fn region(region: Region<Self>) -> PacketSet {
                PacketSet { $side: region, ..PacketSet::empty() }
            }

            fn bits(self) -> u128 {
                self.into()
            }

            fn from_bits(bits: u128) -> Option<Self> {
                bits.try_into().ok()
            }
        }
    };
}
family!(u32, v4);
family!(u128, v6);
