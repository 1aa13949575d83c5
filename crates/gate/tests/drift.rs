//! What others do to the gate is noticed.

#![allow(clippy::unwrap_used)]

use std::os::fd::{AsFd, OwnedFd};
use std::path::PathBuf;

use tipstaff_bpf::asm::{Assembler, R0};
use tipstaff_bpf::sys::{self, Attach, ProgramKind};
use tipstaff_core::brief::Brief;
use tipstaff_core::host::interface::Interface;
use tipstaff_core::orders::read;
use tipstaff_core::packet::Direction;
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::{KernelGate, Other, Place, Turn};
use tipstaff_host::{filters, lab};
use tipstaff_testing::scene::{ALLOW, inside, orders, post};

#[test]
fn tables_that_were_written_over_are_noticed() {
    inside(|run_dir, all| {
        let mut gate = KernelGate::new(&run_dir).unwrap();
        post(&mut gate, &orders(ALLOW), &all).unwrap();
        assert!(gate.is_intact().unwrap());
        // The maps of the program that stands in the slot, by whoever may.
        let folder = std::fs::read_dir(run_dir.join("bpf")).unwrap().flatten();
        let folder = folder.map(|e| e.path()).find(|p| p.join("slot").exists()).unwrap();
        let slot = sys::pinned(&folder.join("slot")).unwrap();
        let mut id = [0; 4];
        let place = (0..2u32)
            .find(|place| sys::map_lookup(slot.as_fd(), &place.to_ne_bytes(), &mut id).unwrap());
        assert!(place.is_some());
        let program = sys::program_by_id(u32::from_ne_bytes(id)).unwrap();
        let maps = sys::program_maps(program.as_fd()).unwrap();
        let tables = maps
            .into_iter()
            .map(|id| sys::map_by_id(id).unwrap())
            .find(|map| sys::map_info(map.as_fd()).unwrap().name == "ts_tables");
        let tables = tables.unwrap();
        let size = sys::map_info(tables.as_fd()).unwrap().value as usize;
        let mut bytes = vec![0; size];
        sys::map_lookup(tables.as_fd(), &[0; 4], &mut bytes).unwrap();
        bytes[size - 1] ^= 1;
        sys::map_update(tables.as_fd(), &[0; 4], &bytes).unwrap();
        assert!(!gate.is_intact().unwrap());
        post(&mut gate, &orders(ALLOW), &all).unwrap();
        assert!(gate.is_intact().unwrap());
        gate.withdraw().unwrap();
    });
}

/// A program of somebody else that lets everything pass.
fn of_another(name: &str, kind: ProgramKind, attach: Option<Attach>, passes: i32) -> OwnedFd {
    let mut a = Assembler::default();
    a.mov(R0, passes);
    a.exit();
    let code = a.finish().unwrap();
    sys::program_load_for(kind, attach, name, &code).unwrap()
}

/// Those of that name: where, which way, and whether before the gate.
fn others(name: &str, gate: &KernelGate, all: &[Interface]) -> Vec<(Place, Direction, Turn)> {
    let found = gate.others(all).unwrap().into_iter();
    let found = found.filter(|other| other.name == name);
    found.map(|other| (other.place, other.direction, other.order)).collect()
}

#[test]
fn programs_of_others_at_an_interface_are_told_in_their_turn() {
    inside(|run_dir, all| {
        let mut gate = KernelGate::new(&run_dir).unwrap();
        post(&mut gate, &orders(ALLOW), &all).unwrap();
        assert_eq!(others("ts_beside", &gate, &all), []);
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let tc = || Place::Tc { interface: "ts-a".into() };
        let xdp = of_another("ts_beside", ProgramKind::Xdp, None, 2);
        lab::xdp("ts-a", xdp.as_fd()).unwrap();
        let before = (Place::Xdp { interface: "ts-a".into() }, Direction::Inbound, Turn::Before);
        assert_eq!(others("ts_beside", &gate, &all), std::slice::from_ref(&before));
        let link = |side, order| {
            let other = of_another("ts_beside", ProgramKind::SchedCls, None, 0);
            sys::link_interface(other.as_fd(), cable.index, side, order)
        };
        let links = match link(Attach::TcxIngress, sys::Order::First) {
            // Before 6.6 nothing comes before a filter of the first priority.
            Err(e) if e.kind() == std::io::ErrorKind::InvalidInput => return,
            first => [
                first.unwrap(),
                link(Attach::TcxIngress, sys::Order::Last).unwrap(),
                link(Attach::TcxEgress, sys::Order::Last).unwrap(),
            ],
        };
        let expected = [
            before.clone(),
            (tc(), Direction::Inbound, Turn::Before),
            (tc(), Direction::Inbound, Turn::After),
            (tc(), Direction::Outbound, Turn::After),
        ];
        assert_eq!(others("ts_beside", &gate, &all), expected);
        drop(links);
        // A filter comes after all links.
        let other = of_another("ts_beside", ProgramKind::SchedCls, None, 0);
        filters::attach(cable.index, filters::Side::Egress, other.as_fd()).unwrap();
        let after = (tc(), Direction::Outbound, Turn::After);
        assert_eq!(others("ts_beside", &gate, &all), [before.clone(), after]);
        filters::detach(cable.index, filters::Side::Egress).unwrap();
        assert_eq!(others("ts_beside", &gate, &all), [before]);
        gate.withdraw().unwrap();
    });
}

/// A control group for the time of a test, empty.
struct Group(PathBuf);

impl Drop for Group {
    fn drop(&mut self) {
        std::fs::remove_dir(&self.0).unwrap();
    }
}

#[test]
fn programs_of_control_groups_are_told_with_their_group() {
    inside(|run_dir, all| {
        let groups = tempfile::tempdir().unwrap();
        let flags = nix::mount::MsFlags::empty();
        nix::mount::mount(Some("groups"), groups.path(), Some("cgroup2"), flags, None::<&str>)
            .unwrap();
        let mut gate = KernelGate::new(&run_dir).unwrap();
        post(&mut gate, &orders(ALLOW), &all).unwrap();
        // The second line is the gate's own.
        let own = |other: &Other| other.name == "ts_at_sockets";
        assert!(!gate.others(&all).unwrap().iter().any(own));
        let name = format!("ts-others-{}", std::process::id());
        let group = Group(groups.path().join(&name));
        std::fs::create_dir(&group.0).unwrap();
        let folder = std::fs::File::open(&group.0).unwrap();
        let sides = [Attach::CgroupIngress, Attach::CgroupEgress];
        let links = sides.map(|side| {
            let program = of_another("ts_grouped", ProgramKind::CgroupSkb, Some(side), 1);
            sys::link_cgroup(program.as_fd(), folder.as_fd(), side).unwrap()
        });
        let place = || Place::ControlGroup { group: format!("/{name}") };
        let expected = [
            (place(), Direction::Inbound, Turn::After),
            (place(), Direction::Outbound, Turn::Before),
        ];
        assert_eq!(others("ts_grouped", &gate, &all), expected);
        drop((links, folder));
        assert_eq!(others("ts_grouped", &gate, &all), []);
        gate.withdraw().unwrap();
        drop(group);
        nix::mount::umount(groups.path()).unwrap();
    });
}

#[test]
fn a_program_in_another_file_is_noticed() {
    inside(|run_dir, all| {
        let folder = tempfile::tempdir().unwrap();
        let plated = folder.path().join("plated");
        std::fs::write(&plated, "").unwrap();
        let rule = format!("{ALLOW}program = \"{}\"\n", plated.display());
        let text =
            orders(&rule).replacen("version = 1\n", "version = 1\nprogram_exact = true\n", 1);
        let brief = Brief::unplaced(&read(&text).unwrap());
        let mut gate = KernelGate::new(&run_dir).unwrap();
        post(&mut gate, &text, &all).unwrap();
        assert!(gate.knows_programs(&brief).unwrap());
        let new = folder.path().join("plated.new");
        std::fs::write(&new, "").unwrap();
        std::fs::rename(&new, &plated).unwrap();
        assert!(!gate.knows_programs(&brief).unwrap());
        post(&mut gate, &text, &all).unwrap();
        assert!(gate.knows_programs(&brief).unwrap());
        gate.withdraw().unwrap();
    });
}
