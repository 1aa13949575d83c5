//! Programs of others that decide about packets, too, in words.

use std::collections::BTreeSet;

use tipstaff_gate::kernel::{Other, Place, Turn};
use tipstaff_knock::witness;

/// So many names are told, and how many there are more.
const NAMED: usize = 3;

/// All others: a line for each at an interface, one for the control groups, and one for a reach
/// check that runs.
pub fn lines(others: &[Other], checked: bool) -> Vec<String> {
    let lasting = others.iter().filter(|other| !is_of_reach(other, checked));
    let reach = checked.then_some("a reach check is running: its programs stand around the gate");
    let at_interfaces = lasting.filter_map(at_an_interface);
    at_interfaces.chain(at_groups(others)).chain(reach.map(str::to_owned)).collect()
}

/// Whether it is a program of a reach check that runs (`checked`), which stops nothing but
/// its own packets. The name alone proves nothing.
pub fn is_of_reach(other: &Other, checked: bool) -> bool {
    checked && witness::PROGRAMS.contains(&other.name.as_str())
}

fn at_an_interface(other: &Other) -> Option<String> {
    let (interface, xdp) = match (&other.place, other.order) {
        (Place::Xdp { interface }, _) => (interface, "XDP "),
        (Place::Tc { interface }, Turn::After) => (interface, ""),
        (Place::Tc { .. }, Turn::Before) | (Place::ControlGroup { .. }, _) => return None,
    };
    let (program, direction) = (program(other), other.direction.name());
    let order = match other.order {
        Turn::Before => "before",
        Turn::After => "after",
    };
    Some(format!("{xdp}{program} on {interface} sees {direction} packets {order} the gate"))
}

fn at_groups(others: &[Other]) -> Option<String> {
    let groups: BTreeSet<&str> = others
        .iter()
        .filter_map(|other| match &other.place {
            Place::ControlGroup { group } => Some(group.as_str()),
            _ => None,
        })
        .collect();
    let named: Vec<&str> = groups.iter().take(NAMED).map(|path| last_part(path)).collect();
    let named = named.join(", ");
    let of = match groups.len() {
        0 => return None,
        1 => format!("the control group {named}"),
        many if many > NAMED => {
            format!("{many} control groups ({named} and {} more)", many - NAMED)
        }
        many => format!("{many} control groups ({named})"),
    };
    Some(format!(
        "programs of {of} see inbound packets after the gate and outbound packets before it \
         (systemd attaches such for IPAddressDeny=)"
    ))
}

fn last_part(path: &str) -> &str {
    match path.rsplit('/').next() {
        None | Some("") => "/",
        Some(name) => name,
    }
}

/// Its number and name.
pub fn program(Other { program, name, .. }: &Other) -> String {
    match program {
        Some(number) => format!("program {number} ({name})"),
        None => "a tc filter".into(),
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use tipstaff_core::packet::Direction;

    use super::*;

    fn at(place: Place, direction: Direction, order: Turn) -> Other {
        Other { place, direction, order, program: Some(57), name: "count".into() }
    }

    #[test]
    fn who_sees_a_packet_first_is_said() {
        let interface = || "lan0".to_owned();
        let group = |name: &str| Place::ControlGroup { group: format!("/plates.slice/{name}") };
        let (tc, xdp) =
            (Place::Tc { interface: interface() }, Place::Xdp { interface: interface() });
        let mut others = vec![
            at(xdp, Direction::Inbound, Turn::Before),
            at(tc.clone(), Direction::Inbound, Turn::Before),
            at(tc.clone(), Direction::Inbound, Turn::After),
            Other { program: None, ..at(tc, Direction::Outbound, Turn::After) },
            at(group("reduce.service"), Direction::Inbound, Turn::After),
            at(group("reduce.service"), Direction::Outbound, Turn::Before),
        ];
        let told = lines(&others, false);
        assert_eq!(
            told[..3],
            [
                "XDP program 57 (count) on lan0 sees inbound packets before the gate",
                "program 57 (count) on lan0 sees inbound packets after the gate",
                "a tc filter on lan0 sees outbound packets after the gate",
            ]
        );
        assert!(
            told[3].starts_with("programs of the control group reduce.service see inbound packets")
        );
        for name in ["a", "b", "c"] {
            others.push(at(group(name), Direction::Outbound, Turn::Before));
        }
        let told = lines(&others, false).pop().unwrap();
        assert!(told.starts_with("programs of 4 control groups (a, b, c and 1 more) see"));
        others.retain(|other| matches!(other.place, Place::Tc { .. }));
        for other in &mut others {
            other.name = witness::PROGRAMS[0].into();
        }
        let running = ["a reach check is running: its programs stand around the gate"];
        assert_eq!(lines(&others, true), running);
        // Nobody hides behind a name.
        assert_eq!(lines(&others, false).len(), 2);
    }
}
