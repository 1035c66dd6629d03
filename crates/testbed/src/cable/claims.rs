//! Detects who is present, and claims addresses only after nobody has answered for them (RFC 5227, RFC 4862).

use super::ends::{Ends, nobody};
use super::frame;
use bastium_core::space::Family;
use std::collections::HashMap;
use std::io;
use std::net::IpAddr;
use std::time::{Duration, Instant};

/// How often is asked, and how long apart. That is the number that RFC 5227 (1.1) has, and quicker: what is taken here is given
/// up again as soon as somebody else is heard to have it.
const PROBES: u32 = 3;
const APART: Duration = Duration::from_millis(400);
/// So many are asked for before what has come in is read.
const AT_ONCE: usize = 32;

/// The address that was asked for, and whether somebody has it.
pub type Found = HashMap<(usize, IpAddr), bool>;

impl Ends {
    /// Asks the gateways of all networks for themselves, from nobody, so that packets can be sent to them. Returns which
    /// network's gateway has answered, in each family that it has an address of.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn find_gateways(&mut self) -> io::Result<Found> {
        let lanes = self.lanes().iter().enumerate();
        let all: Vec<(usize, IpAddr)> = lanes
            .flat_map(|(number, lane)| lane.gateway.iter().map(move |own| (number, *own)))
            .collect();
        self.who_is_there(&all)
    }

    fn is_there(&self, at: &(usize, IpAddr)) -> bool {
        matches!(self.there.get(at), Some(Some(_)))
    }

    /// Asks for addresses, each several times, and says for each whether somebody has answered.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn who_is_there(&mut self, all: &[(usize, IpAddr)]) -> io::Result<Found> {
        for (lane, address) in all {
            self.there.insert((*lane, *address), None);
        }
        for _ in 0..PROBES {
            let begun = Instant::now();
            let silent = all.iter().filter(|at| !self.is_there(at));
            let silent: Vec<(usize, IpAddr)> = silent.copied().collect();
            for some in silent.chunks(AT_ONCE) {
                for (lane, address) in some {
                    let probe =
                        frame::who_has(self.mac(*lane), nobody(Family::of(*address)), *address);
                    if let Some(frame) = probe {
                        self.put(*lane, &frame)?;
                    }
                }
                self.attend(Duration::from_millis(2))?;
            }
            let everyone = |ends: &Self| all.iter().all(|at| ends.is_there(at));
            self.attend_until(begun + APART, everyone)?;
        }
        Ok(all.iter().map(|at| (*at, self.is_there(at))).collect())
    }

    /// Takes those of these addresses that nobody has answered for, and says which these are.
    ///
    /// # Errors
    /// When an interface is down or gone.
    pub fn claim(&mut self, all: &[(usize, IpAddr)]) -> io::Result<Found> {
        let found = self.who_is_there(all)?;
        for ((lane, address), somebody) in &found {
            if !somebody {
                self.take(*lane, *address);
            }
        }
        Ok(found.into_iter().map(|(at, somebody)| (at, !somebody)).collect())
    }
}
