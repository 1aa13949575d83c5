//! What is in force, asked: packets that are played through it, its records and its
//! clock.

use std::os::fd::AsFd;
use std::path::PathBuf;

use tipstaff_core::decision::{Decision, Speaker};
use tipstaff_core::moment::Moment;
use tipstaff_core::packet::{Direction, InterfaceIndex, ProgramIndex};

use crate::contract::{GateError, Maker, RuleCounted, Unrecorded};
use crate::kernel::emit::marks::{Marks, Note};
use crate::kernel::gate::KernelGate;
use crate::kernel::kept::clock;
use crate::kernel::kept::pins::REACH;
use crate::kernel::kept::ring::Events;
use crate::kernel::support;
use crate::lock::{self, Running};

/// A frame that the gate is asked about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Asked {
    /// Where it arrives, or leaves.
    pub interface: InterfaceIndex,
    /// As if this program listened, or sent it; `None`: the one that there is.
    pub program: Option<ProgramIndex>,
    /// An Ethernet frame.
    pub frame: Vec<u8>,
}

impl KernelGate {
    /// Tells the programs by how many seconds TAI is ahead of UTC, which the
    /// kernel may have learnt since the post: `until` goes by it.
    ///
    /// # Errors
    /// [`GateError`].
    pub fn follow_clock(&self) -> Result<(), GateError> {
        self.shift_clock(0)
    }

    /// As [`Self::follow_clock`], but so many seconds off: for tests.
    ///
    /// # Errors
    /// [`GateError`].
    pub fn shift_clock(&self, seconds: i64) -> Result<(), GateError> {
        support::check_root()?;
        if let Some(map) = self.pins().clock()? {
            clock::Told::open(map.as_fd())?.tell(clock::tai_ahead()? + seconds);
        }
        Ok(())
    }

    /// How many seconds `until` ends too early (or, below zero, too late),
    /// where nobody has told the programs of a change of the clock.
    ///
    /// # Errors
    /// [`GateError`].
    pub fn clock_is_off(&self) -> Result<i64, GateError> {
        support::check_root()?;
        let Some(map) = self.pins().clock()? else { return Ok(0) };
        Ok(clock::tai_ahead()? - clock::Told::open(map.as_fd())?.seconds())
    }

    /// The numbers by which the gate knows the reach check's own packets;
    /// `None` where no gate is loaded.
    ///
    /// # Errors
    /// [`GateError`].
    pub fn marks(&self) -> Result<Option<Marks>, GateError> {
        support::check_root()?;
        Ok(self.pins().secrets()?.map(|(_, marks)| marks))
    }

    /// Makes the run folder where it is not, and sees to it that nobody else can put anything
    /// in it: what is made there is trusted.
    ///
    /// # Errors
    /// [`GateError::NotRoot`], [`GateError::Untrusted`].
    pub fn prepare_run_dir(&self) -> Result<(), GateError> {
        support::check_root()?;
        support::run_dir(&self.run_dir)
    }

    /// Tells whoever looks at the gate that a reach check runs, until what this returns is
    /// dropped. `None`: nothing was ever posted here, or this is not root, whose checks attach
    /// nothing.
    pub fn begin_check(&self) -> Option<Running> {
        if support::check_root().is_err() || !self.run_dir.exists() {
            return None;
        }
        // Without it the check is as good; `state` takes its programs for somebody else's.
        Running::new(&self.run_dir.join(REACH)).ok()
    }

    /// Whether a reach check runs.
    pub fn is_checked(&self) -> bool {
        lock::runs(&self.run_dir.join(REACH))
    }

    /// The decisions as they happen. One reader at a time: what it takes no
    /// other one sees.
    ///
    /// # Errors
    /// [`GateError::NothingInForce`] among others.
    pub fn events(&self) -> Result<Events, GateError> {
        support::check_root()?;
        Events::open(self.pins().events()?.ok_or(GateError::NothingInForce)?)
    }

    /// The path of the file that made a socket, as it was when the socket was made: its
    /// processes may have ended, and it may be gone. `None`: nobody noted it.
    ///
    /// # Errors
    /// [`GateError`].
    pub fn noted_program(&self, maker: Maker) -> Result<Option<PathBuf>, GateError> {
        support::check_root()?;
        self.pins().noted_program(maker)
    }

    /// How many decisions of the standing answers were left out of the
    /// records, and how many records nobody had read in time.
    ///
    /// # Errors
    /// As [`crate::Gate::ask`].
    pub fn unrecorded(&self) -> Result<Unrecorded, GateError> {
        self.revision()?.ok_or(GateError::NothingInForce)?.unrecorded()
    }

    /// As if the frame had arrived: it is counted, and takes from rates. What
    /// the gate would answer comes back beside the decision.
    ///
    /// # Errors
    /// As [`crate::Gate::ask`].
    pub fn play(
        &self,
        interface: InterfaceIndex,
        frame: &[u8],
    ) -> Result<(Decision, Vec<u8>), GateError> {
        let revision = self.revision()?.ok_or(GateError::NothingInForce)?;
        revision.play(interface, Direction::Inbound, frame)
    }

    /// As [`Self::play`], as if this host sent the frame and it left now.
    ///
    /// # Errors
    /// As [`crate::Gate::ask`].
    pub fn play_out(&self, interface: InterfaceIndex, frame: &[u8]) -> Result<Decision, GateError> {
        let revision = self.revision()?.ok_or(GateError::NothingInForce)?;
        Ok(revision.play(interface, Direction::Outbound, frame)?.0)
    }

    /// As if this host forwarded the frame and it left now, noted as it was
    /// decided where it came in: it is remembered, so that its answers pass.
    /// Whether it may leave.
    ///
    /// # Errors
    /// As [`crate::Gate::ask`].
    pub fn forward(
        &self,
        from: InterfaceIndex,
        to: InterfaceIndex,
        frame: &[u8],
        noted: Option<Note>,
    ) -> Result<bool, GateError> {
        let marks = self.marks()?.ok_or(GateError::NothingInForce)?;
        let noted = noted.map(|note| marks.note(note));
        self.revision()?.ok_or(GateError::NothingInForce)?.forward(from, to, frame, noted)
    }

    /// As [`crate::Gate::ask`], many frames in one go; outbound for frames that leave
    /// through their interface.
    ///
    /// # Errors
    /// As [`crate::Gate::ask`].
    pub fn ask_all(&self, way: Direction, questions: &[Asked]) -> Result<Vec<Decision>, GateError> {
        let revision = self.revision()?.ok_or(GateError::NothingInForce)?;
        questions
            .iter()
            .map(|asked| Ok(revision.ask(asked.interface, way, asked.program, &asked.frame, 1)?.0))
            .collect()
    }

    /// Since when each rule, standing answer and foundation is counted; `None`: that was
    /// posted by a version which did not note it.
    ///
    /// # Errors
    /// [`GateError::NothingInForce`], or what the kernel says.
    pub fn counted_since(&self) -> Result<Vec<(Speaker, Option<Moment>)>, GateError> {
        let counted = self.revision()?.ok_or(GateError::NothingInForce)?.counted()?;
        let all = counted.speakers();
        Ok(all.map(|speaker| (speaker, counted.since(speaker))).collect())
    }

    /// The rules that are counted, in their places. Much quicker than reading the orders.
    /// `None`: an earlier version posted them.
    ///
    /// # Errors
    /// As [`Self::counted_since`].
    pub fn counted_rules(&self) -> Result<Option<Vec<RuleCounted>>, GateError> {
        Ok(self.revision()?.ok_or(GateError::NothingInForce)?.counted()?.rules())
    }

    /// Mean duration of the verdict on a frame, over `repeat` runs.
    ///
    /// # Errors
    /// As [`crate::Gate::ask`].
    pub fn time(
        &self,
        interface: InterfaceIndex,
        frame: &[u8],
        repeat: u32,
    ) -> Result<std::time::Duration, GateError> {
        let revision = self.revision()?.ok_or(GateError::NothingInForce)?;
        Ok(revision.ask(interface, Direction::Inbound, None, frame, repeat)?.1)
    }
}
