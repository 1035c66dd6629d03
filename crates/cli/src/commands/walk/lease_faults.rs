//! Faults of leases and routers, in words.

use bastium_core::plan::Plan;
use bastium_testbed::trunk::LeaseFault;

/// What is wrong with a lease or a router, in words.
pub(super) fn fault(plan: &Plan, fault: &LeaseFault) -> String {
    let list = |all: &[String]| all.join(", ");
    match fault {
        LeaseFault::NoServer => "nobody offers an address by DHCP".to_owned(),
        LeaseFault::Unplanned(server) => {
            format!("{server} offers addresses by DHCP; the plan has no pool here")
        }
        LeaseFault::SecondServer(servers) => {
            let servers: Vec<String> = servers.iter().map(ToString::to_string).collect();
            format!("several DHCP servers answer: {}", list(&servers))
        }
        LeaseFault::NotGiven => {
            "the DHCP server offers an address and then does not give it".to_owned()
        }
        LeaseFault::OtherNetwork(address, id) => {
            format!("this is {}: DHCP gives {address} here", plan.network(*id).name)
        }
        LeaseFault::OutsidePool(address) => {
            format!("DHCP gives {address}, which is not of the pool")
        }
        LeaseFault::Length(Some(is), wanted) => {
            format!("DHCP gives a subnet of /{is}; the plan has /{wanted}")
        }
        LeaseFault::Length(None, wanted) => {
            format!("DHCP gives no mask of a subnet; the plan has /{wanted}")
        }
        LeaseFault::Router(Some(is), wanted) => {
            format!("DHCP gives {is} as the router; the gateway is {wanted}")
        }
        LeaseFault::Router(None, wanted) => {
            format!("DHCP gives no router; the gateway is {wanted}")
        }
        LeaseFault::NameServers(given, wanted) if given.is_empty() => {
            format!("DHCP gives no resolver; the plan has the gateway, {wanted}")
        }
        LeaseFault::NameServers(given, wanted) => {
            let given: Vec<String> = given.iter().map(ToString::to_string).collect();
            format!("DHCP gives the resolver {}; the plan has the gateway, {wanted}", list(&given))
        }
        LeaseFault::Time(None) => "DHCP says no time for which the address is given".to_owned(),
        LeaseFault::Time(Some(0)) => "DHCP gives the address for no time".to_owned(),
        LeaseFault::Time(Some(_)) => "DHCP gives the address for ever".to_owned(),
        LeaseFault::NoRouter => "no router advertises itself; the plan has IPv6 here".to_owned(),
        LeaseFault::UnplannedRouter(router) => {
            format!("{router} advertises itself as an IPv6 router; the plan has no IPv6 here")
        }
        LeaseFault::SecondRouter(routers) => {
            let routers: Vec<String> = routers.iter().map(ToString::to_string).collect();
            format!("several IPv6 routers advertise themselves: {}", list(&routers))
        }
        LeaseFault::Prefix(prefix, length) => {
            format!("a router advertises {prefix}/{length}, which is not of this network")
        }
    }
}
