//! A DNS server for a site in the kernel: it knows the names of domains, and nothing else.

use bastium_core::space::Family;
use simple_dns::rdata::{A, AAAA, RData};
use simple_dns::{CLASS, Packet, PacketFlag, QTYPE, RCODE, ResourceRecord, TYPE};
use std::net::IpAddr;

/// Names and what they lead to.
#[derive(Clone, Debug, Default)]
pub struct Names(Vec<(String, Vec<IpAddr>)>);

impl Names {
    /// These names; one that begins with `*.` stands for all below it.
    pub fn new(names: impl IntoIterator<Item = (String, Vec<IpAddr>)>) -> Self {
        Self(names.into_iter().collect())
    }

    /// The answer to a question (RFC 1035); `None` to what is no question.
    pub(super) fn answer(&self, question: &[u8]) -> Option<Vec<u8>> {
        let asked = Packet::parse(question).ok()?;
        if asked.has_flags(PacketFlag::RESPONSE) {
            return None;
        }
        let mut reply = asked.clone().into_reply();
        reply.set_flags(PacketFlag::RECURSION_AVAILABLE);
        let wanted = asked.questions.first()?;
        let name = wanted.qname.to_string().to_lowercase();
        let found = self.0.iter().find(|(known, _)| *known == name || below(known, &name));
        match found {
            Some((_, addresses)) => {
                for address in addresses {
                    let data = match (address, wanted.qtype) {
                        (IpAddr::V4(v4), QTYPE::TYPE(TYPE::A)) => RData::A(A::from(*v4)),
                        (IpAddr::V6(v6), QTYPE::TYPE(TYPE::AAAA)) => RData::AAAA(AAAA::from(*v6)),
                        _ => continue,
                    };
                    // Good for this moment only, so that it is asked for again.
                    let record = ResourceRecord::new(wanted.qname.clone(), CLASS::IN, 0, data);
                    reply.answers.push(record);
                }
            }
            None => *reply.rcode_mut() = RCODE::NameError,
        }
        reply.build_bytes_vec().ok()
    }
}

fn below(known: &str, name: &str) -> bool {
    let above = known.strip_prefix("*.");
    above.is_some_and(|above| name.strip_suffix(above).is_some_and(|left| left.ends_with('.')))
}

/// A question for a name.
pub(crate) fn question(name: &str, number: u16, family: Family) -> Option<Vec<u8>> {
    use simple_dns::{Name, QCLASS, Question};
    let mut packet = Packet::new_query(number);
    packet.set_flags(PacketFlag::RECURSION_DESIRED);
    let kind = QTYPE::TYPE(if family == Family::V6 { TYPE::AAAA } else { TYPE::A });
    let name = Name::new(name).ok()?;
    packet.questions.push(Question::new(name, kind, QCLASS::CLASS(CLASS::IN), false));
    packet.build_bytes_vec().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn answers(names: &Names, name: &str, family: Family) -> Vec<IpAddr> {
        let asked = question(name, 7, family).expect("a question");
        let answer = names.answer(&asked).expect("an answer");
        let answer = Packet::parse(&answer).expect("that can be read");
        assert_eq!(answer.id(), 7);
        let addresses = answer.answers.iter().filter_map(|record| match &record.rdata {
            RData::A(a) => Some(std::net::Ipv4Addr::from(a.address).into()),
            RData::AAAA(a) => Some(std::net::Ipv6Addr::from(a.address).into()),
            _ => None,
        });
        addresses.collect()
    }

    #[test]
    fn a_name_leads_to_its_addresses_family_by_family() {
        let [v4, v6]: [IpAddr; 2] =
            ["192.0.2.7", "2001:db8::7"].map(|word| word.parse().expect("an address"));
        let names = Names::new([("*.example.org".to_owned(), vec![v4, v6])]);
        assert_eq!(answers(&names, "register.example.org", Family::V4), [v4]);
        assert_eq!(answers(&names, "register.example.org", Family::V6), [v6]);
        assert!(answers(&names, "badexample.org", Family::V4).is_empty());
    }
}
