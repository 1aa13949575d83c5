//! What others do to the gate is noticed.

#![allow(clippy::unwrap_used)]

use std::os::fd::AsFd;

use tipstaff_bpf::asm::{Assembler, R0};
use tipstaff_bpf::sys::{self, Attach, ProgramKind};
use tipstaff_core::brief::Brief;
use tipstaff_core::orders::read;
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
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

#[test]
fn a_program_that_decides_before_is_named() {
    inside(|run_dir, all| {
        let mut gate = KernelGate::new(&run_dir).unwrap();
        post(&mut gate, &orders(ALLOW), &all).unwrap();
        assert_eq!(gate.ahead(&all).unwrap(), []);
        let mut a = Assembler::default();
        a.mov(R0, 0);
        a.exit();
        let code = a.finish().unwrap();
        let other = sys::program_load(ProgramKind::SchedCls, "ts_other", &code).unwrap();
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let first = (Attach::TcxIngress, sys::Order::First);
        let link = match sys::link_interface(other.as_fd(), cable.index, first.0, first.1) {
            // Before 6.6 nothing comes before a filter of the first priority.
            Err(e) if e.kind() == std::io::ErrorKind::InvalidInput => return,
            link => link.unwrap(),
        };
        let ahead = gate.ahead(&all).unwrap();
        assert_eq!(ahead.len(), 1);
        let named = (ahead[0].interface.as_str(), ahead[0].name.as_str(), ahead[0].outwards);
        assert_eq!(named, ("ts-a", "ts_other", false));
        drop(link);
        assert_eq!(gate.ahead(&all).unwrap(), []);
        gate.withdraw().unwrap();
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
