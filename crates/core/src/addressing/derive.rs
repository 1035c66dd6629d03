//! Subnets that follow from the VLAN id (`tie` in `[site]`), so that an address shows at a glance which VLAN it is
//! in: VLAN 24 in `10.44.0.0/16` becomes `10.44.24.0/24`.

use ipnet::{IpNet, Ipv4Net, Ipv6Net};
use std::net::{Ipv4Addr, Ipv6Addr};

/// How subnets follow from VLAN ids.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Tie {
    /// VLAN 24 has 10.44.24.0/24, and fd6b:2f4e:91c0:24::/64: the id's decimal digits stand in the
    /// third octet, and in the fourth group of the IPv6 address.
    ThirdOctet,
    /// They do not: every network says its subnet.
    #[default]
    None,
}

/// Why no subnet follows.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoSubnet {
    /// The plan ties nothing, or the network has no VLAN id.
    #[error("nothing ties subnets to VLAN ids here")]
    NotTied,
    /// VLAN ids above 255 do not fit into an octet.
    #[error("a VLAN id above 255 does not fit into an octet")]
    AboveOctet,
    /// The subnet that would follow lies in none of the site's spaces.
    #[error("{0} lies in none of the site's spaces")]
    OutsideSpace(IpNet),
    /// It would be carved, and nothing free is large enough.
    #[error("nothing free is large enough")]
    NoRoom,
}

/// The subnets that follow from a VLAN id: one in the first IPv4 space that has it, and one in the
/// first IPv6 space that does.
///
/// # Errors
/// Says why none follows. A site without an IPv6 space is no error; one without any space is.
///
/// ```
/// use bastium_core::addressing::{NoSubnet, Tie, derive};
///
/// let space = ["10.44.0.0/16".parse()?, "fd6b:2f4e:91c0::/48".parse()?];
/// let subnets = derive(Tie::ThirdOctet, Some(24), &space).expect("they follow");
/// assert_eq!(subnets[0].to_string(), "10.44.24.0/24");
/// assert_eq!(subnets[1].to_string(), "fd6b:2f4e:91c0:24::/64");
/// assert_eq!(derive(Tie::ThirdOctet, Some(256), &space), Err(NoSubnet::AboveOctet));
/// # Ok::<(), ipnet::AddrParseError>(())
/// ```
pub fn derive(tie: Tie, vlan: Option<u16>, space: &[IpNet]) -> Result<Vec<IpNet>, NoSubnet> {
    let (Tie::ThirdOctet, Some(vlan)) = (tie, vlan) else {
        return Err(NoSubnet::NotTied);
    };
    let (v4, v6): (Vec<_>, Vec<_>) = space.iter().partition(|prefix| prefix.addr().is_ipv4());
    let mut subnets = Vec::new();
    for family in [v4, v6] {
        let candidates = family.iter().map(|prefix| tied(vlan, prefix));
        let candidates = candidates.collect::<Result<Vec<IpNet>, _>>()?;
        let mut with_space = candidates.iter().zip(&family);
        match with_space.find(|(subnet, prefix)| prefix.contains(*subnet)) {
            Some((subnet, _)) => subnets.push(*subnet),
            None => match candidates.first() {
                Some(outside) => return Err(NoSubnet::OutsideSpace(*outside)),
                None => continue,
            },
        }
    }
    if subnets.is_empty() { Err(NoSubnet::NotTied) } else { Ok(subnets) }
}

fn tied(vlan: u16, space: &IpNet) -> Result<IpNet, NoSubnet> {
    match space {
        IpNet::V4(space) => {
            let octet = u8::try_from(vlan).map_err(|_| NoSubnet::AboveOctet)?;
            let [a, b, _, _] = space.network().octets();
            let net = Ipv4Net::new_assert(Ipv4Addr::new(a, b, octet, 0), 24);
            Ok(net.into())
        }
        IpNet::V6(space) => {
            let [a, b, c, ..] = space.network().segments();
            let group = decimal_as_hex(vlan);
            let address = Ipv6Addr::new(a, b, c, group, 0, 0, 0, 0);
            Ok(Ipv6Net::new_assert(address, 64).into())
        }
    }
}

/// The number whose hexadecimal digits read like the decimal ones of `number`: 24 becomes 0x24.
fn decimal_as_hex(number: u16) -> u16 {
    let digit = |place: u16| number / 10u16.pow(place.into()) % 10;
    (0..4).fold(0, |sum, place| sum | digit(place) << (4 * place))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn space() -> Vec<IpNet> {
        ["10.44.0.0/16", "fd6b:2f4e:91c0::/48"].map(|t| t.parse().expect(t)).to_vec()
    }

    fn words(vlan: u16, space: &[IpNet]) -> Result<Vec<String>, NoSubnet> {
        derive(Tie::ThirdOctet, Some(vlan), space)
            .map(|subnets| subnets.iter().map(ToString::to_string).collect())
    }

    #[test]
    fn the_vlan_id_shows_in_both_families() {
        let expected = |a: &str, b: &str| Ok(vec![a.to_owned(), b.to_owned()]);
        assert_eq!(words(24, &space()), expected("10.44.24.0/24", "fd6b:2f4e:91c0:24::/64"));
        assert_eq!(words(250, &space()), expected("10.44.250.0/24", "fd6b:2f4e:91c0:250::/64"));
    }

    #[test]
    fn an_id_that_fits_no_octet_or_no_space_is_reported() {
        assert_eq!(words(300, &space()), Err(NoSubnet::AboveOctet));
        assert_eq!(words(300, &space()[1..]), Ok(vec!["fd6b:2f4e:91c0:300::/64".to_owned()]));
        let narrow = ["10.44.16.0/20".parse().expect("prefix")];
        assert_eq!(words(20, &narrow), Ok(vec!["10.44.20.0/24".to_owned()]));
        let outside = "10.44.99.0/24".parse().expect("prefix");
        assert_eq!(words(99, &narrow), Err(NoSubnet::OutsideSpace(outside)));
        assert_eq!(derive(Tie::None, Some(24), &space()), Err(NoSubnet::NotTied));
        assert_eq!(words(24, &[]), Err(NoSubnet::NotTied));
    }

    #[test]
    fn the_second_space_serves_where_the_first_cannot() {
        let two = ["10.44.16.0/20", "192.168.0.0/16"].map(|t| t.parse().expect(t));
        assert_eq!(words(99, &two), Ok(vec!["192.168.99.0/24".to_owned()]));
    }
}
