//! The roll-out itself: asks what is next, does it on all hosts concerned at once, and
//! writes down how far it came.

use std::thread;
use std::time::{Duration, Instant};

use tipstaff_core::analysis::fleet::{Next, Phase, Progress, RollOut};
use tipstaff_core::analysis::reach;
use tipstaff_core::orders::{Host, Origin};

use super::super::Fleet;
use super::super::state::{Seen, request};
use super::kept::Kept;
use super::plan::{Before, Planned};
use super::told;
use crate::acts::fleet::message::{Answer, Request};
use crate::acts::fleet::{Fault, SshLine, first};
use crate::acts::last_check;
use crate::acts::reported::text;
use crate::arguments::{Common, FleetPostOptions};
use crate::terminal::{Terminal, counted, spoken};

/// How long a host may take to answer over a new connection once its orders are on trial.
const ANSWERS_AGAIN: Duration = Duration::from_secs(30);
/// How long is waited between two attempts.
const PAUSE: Duration = Duration::from_secs(1);
/// So much later than the trial ends is looked whether it has.
const AFTER_TRIAL: Duration = Duration::from_secs(2);

/// A roll-out on its way.
pub struct Drive<'d> {
    common: &'d Common,
    fleet: &'d Fleet,
    options: &'d FleetPostOptions,
    planned: &'d [Planned<'d>],
    pub rollout: RollOut,
    /// When the last trial of each host had begun at the latest: the answer to the request
    /// for it had come, or was not waited for any more.
    tried: Vec<Option<Instant>>,
}

/// How a step ended on a host, with what is to be known beside.
struct Step {
    progress: Progress,
    notes: Vec<String>,
}

impl Step {
    fn done() -> Self {
        Self { progress: Progress::Done, notes: Vec::new() }
    }

    fn refused(why: impl ToString) -> Self {
        Self { progress: Progress::Refused(why.to_string()), notes: Vec::new() }
    }

    fn of(fault: Fault) -> Self {
        let progress = match fault {
            Fault::Refused(why) => Progress::Refused(why),
            fault => Progress::Lost(fault.to_string()),
        };
        Self { progress, notes: Vec::new() }
    }
}

impl<'d> Drive<'d> {
    pub fn new(
        common: &'d Common,
        fleet: &'d Fleet,
        options: &'d FleetPostOptions,
        planned: &'d [Planned<'d>],
        rollout: RollOut,
    ) -> Self {
        let tried = vec![None; planned.len()];
        Self { common, fleet, options, planned, rollout, tried }
    }

    /// Goes on until nothing more is to be done.
    pub fn run(&mut self, terminal: &Terminal) {
        self.write_down(terminal);
        loop {
            let others = self.why_others();
            match self.rollout.next() {
                Next::Try(hosts) => {
                    told::wave(&self.rollout, &hosts, self.planned, terminal);
                    for (nth, step) in self.each(&hosts, "putting on trial", terminal, Self::put) {
                        self.rollout.tried(nth, step.progress);
                    }
                    hosts.iter().for_each(|nth| self.tried[*nth] = Some(Instant::now()));
                }
                Next::Check(hosts) => {
                    for (nth, step) in self.each(&hosts, "checking", terminal, Self::check) {
                        told::notes(self.planned[nth].host, &step.notes, terminal);
                        self.rollout.checked(nth, step.progress);
                    }
                }
                Next::Confirm(hosts) => {
                    for (nth, step) in self.each(&hosts, "confirming", terminal, Self::confirm) {
                        told::notes(self.planned[nth].host, &step.notes, terminal);
                        self.rollout.confirmed(nth, step.progress);
                    }
                    told::confirmed(&self.rollout, &hosts, self.planned, terminal);
                }
                Next::Revert(hosts) => {
                    told::stopped(&self.rollout, &hosts, self.planned, terminal);
                    for (nth, step) in self.each(&hosts, "rolling back", terminal, Self::revert) {
                        self.rollout.reverted(nth, step.progress, &others);
                    }
                }
                Next::PutBack(hosts) => {
                    for (nth, step) in self.each(&hosts, "restoring", terminal, Self::put_back) {
                        if let Progress::Refused(why) = &step.progress {
                            let words = format!("it keeps the new orders: {why}");
                            told::notes(self.planned[nth].host, &[words], terminal);
                        }
                        self.rollout.put_back(nth, step.progress, &others);
                    }
                }
                Next::End => break,
            }
            self.write_down(terminal);
        }
        self.wait_for_the_rest(terminal);
        self.write_down(terminal);
    }

    /// Why hosts go back with which nothing is wrong.
    fn why_others(&self) -> String {
        let name = self.rollout.stopped_by().map(|nth| self.planned[nth].host.name.as_str());
        format!("stopped because of {}", name.unwrap_or("another host"))
    }

    fn write_down(&self, terminal: &Terminal) {
        let kept = Kept::of(self.fleet.origin.hash(), self.planned, &self.rollout);
        if let Err(e) = kept.write(self.common) {
            terminal.warning(&format!("where the roll-out stands cannot be written down: {e}"));
        }
    }

    fn each<T: Send>(
        &self,
        hosts: &[usize],
        doing: &str,
        terminal: &Terminal,
        step: impl Fn(&Self, usize) -> T + Sync,
    ) -> Vec<(usize, T)> {
        let ends =
            self.fleet.crowd.each(hosts.len(), doing, terminal, |nth| step(self, hosts[nth]));
        hosts.iter().copied().zip(ends).collect()
    }

    fn ask(&self, host: &Host, request: &Request<'_>) -> Result<Answer, Fault> {
        let line = SshLine { answer: self.fleet.crowd.answer, is_new: false };
        line.ask(host.ssh_name(), request)
    }

    /// Asks for the state over a connection of its own.
    fn state(&self, host: &Host) -> Result<Seen, Fault> {
        let line = SshLine { answer: self.fleet.crowd.answer, is_new: true };
        Seen::of(&line.ask(host.ssh_name(), &request())?)
    }

    /// Asks for one command that must end well; else what it says.
    fn command(&self, host: &Host, request: &Request<'_>) -> Result<Answer, Fault> {
        let answer = self.ask(host, request)?;
        match first(&answer)? {
            ran if ran.exit_code == Some(0) => Ok(answer),
            ran => Err(Fault::Refused(ran.why())),
        }
    }

    fn put(&self, nth: usize) -> Step {
        let Planned { host, posture, .. } = &self.planned[nth];
        let time = format!("{}s", self.options.trial.as_secs());
        let mut words = vec!["post", "--trial", &time, "--json", "--host", &host.name];
        if let Some(posture) = posture {
            words.extend(["--posture", posture]);
        }
        if let Some(reason) = &self.options.reason {
            words.extend(["--reason", reason]);
        }
        if self.options.even_if_i_am_cut_off {
            words.push("--even-if-i-am-cut-off");
        }
        match self.command(host, &one(&words).with_orders(&self.fleet.sheets)) {
            Ok(_) => Step::done(),
            Err(fault) => Step::of(fault),
        }
    }

    fn check(&self, nth: usize) -> Step {
        let host = self.planned[nth].host;
        if let Err(why) = self.answers_again(host) {
            return Step::refused(why);
        }
        let mut notes = Vec::new();
        let own = self.ask(host, &one(&["reach", "--from-orders", "--json"]));
        let own = own.map_err(|e| e.to_string());
        match own.and_then(|answer| report_of(&answer)) {
            Err(why) => return Step::refused(format!("its own reach check failed: {why}")),
            Ok(report) => {
                if let Err(why) = self.judge(&report, "", &mut notes) {
                    return Step { progress: Progress::Refused(why), notes };
                }
            }
        }
        if let Err(why) = self.checked_from_outside(nth, &mut notes) {
            return Step { progress: Progress::Refused(why), notes };
        }
        Step { progress: Progress::Done, notes }
    }

    /// Waits until a host says over a new connection that the new orders are on trial.
    fn answers_again(&self, host: &Host) -> Result<(), String> {
        let begin = Instant::now();
        let longest = ANSWERS_AGAIN.min(self.options.trial / 2);
        loop {
            let seen = self.state(host);
            let why = match seen {
                Ok(seen) => {
                    let hash = seen.orders.as_ref().map(Origin::hash);
                    match (hash == Some(self.fleet.origin.hash()), seen.seconds_left) {
                        (true, Some(_)) => return Ok(()),
                        (true, None) => return Err("someone else confirmed them".into()),
                        (false, _) => return Err("other orders are in force there now".into()),
                    }
                }
                Err(fault) => fault.to_string(),
            };
            if begin.elapsed() >= longest {
                return Err(format!("no new ssh connection: {why}"));
            }
            thread::sleep(PAUSE);
        }
    }

    /// Lets other hosts of the orders knock on it.
    fn checked_from_outside(&self, nth: usize, notes: &mut Vec<String>) -> Result<(), String> {
        let host = self.planned[nth].host;
        fn is_address(text: &str) -> bool {
            text.parse::<std::net::IpAddr>().is_ok()
        }
        let wanted = self.options.checkers;
        if wanted == 0 {
            return Ok(());
        }
        if !host.addresses.iter().any(|text| is_address(text)) {
            notes.push("not checked from outside: the orders give it no address".into());
            return Ok(());
        }
        // The next ones in the orders, so that not one host checks all others.
        let all = &self.fleet.orders.hosts;
        let at = all.iter().position(|other| other.name == host.name).unwrap_or_default();
        let others = all.iter().cycle().skip(at + 1).take(all.len().saturating_sub(1));
        let mut checked = 0;
        let mut why = String::from("there is no other host in the orders");
        for checker in others {
            if checked == wanted {
                break;
            }
            let away = self.planned.iter().find(|planned| planned.host.name == checker.name);
            if away.is_some_and(|planned| planned.away.is_some()) {
                continue;
            }
            let request =
                one(&["reach", "--target", &host.name, "--host", &checker.name, "--json"]);
            let answer = self.ask(checker, &request.with_orders(&self.fleet.sheets));
            match answer.map_err(|e| e.to_string()).and_then(|answer| report_of(&answer)) {
                Err(fault) => why = format!("{}: {fault}", checker.name),
                Ok(report) => {
                    self.judge(&report, &format!("seen from {}: ", checker.name), notes)?;
                    checked += 1;
                }
            }
        }
        if checked < wanted {
            let hosts = counted(checked, "host", "hosts");
            notes.push(format!("checked from outside by {hosts} only, of {wanted}: {why}"));
        }
        Ok(())
    }

    /// What a check found: what the new orders, or what else is in force, are to blame for is
    /// a failure; what a service is to blame for only with --strict.
    fn judge(
        &self,
        report: &reach::Report,
        from: &str,
        notes: &mut Vec<String>,
    ) -> Result<(), String> {
        for told in text::differences(report) {
            let why = told.cell.why.as_ref().map(ToString::to_string).unwrap_or_default();
            let words = format!("{from}{}: {why}; {}", told.ports(), text::sentence(&told));
            if self.options.strict || !told.cell.is_of_the_service() {
                return Err(words);
            }
            // What the host itself has said of a port needs no second voice.
            let said = format!("{}: ", told.ports());
            if from.is_empty() || !notes.iter().any(|note| note.starts_with(&said)) {
                notes.push(words);
            }
        }
        let broken = report.rules.iter().find(|rule| rule.holds == Some(false));
        match broken.filter(|_| self.options.strict) {
            Some(rule) => Err(format!("{from}{} does not hold", rule.rule)),
            None => Ok(()),
        }
    }

    fn confirm(&self, nth: usize) -> Step {
        let host = self.planned[nth].host;
        let hash = self.fleet.origin.hash().to_string();
        let request = one(&["confirm", "--expect", &hash, "--json"]);
        let request = Request { save: true, ..request.with_orders(&self.fleet.sheets) };
        match self.command(host, &request) {
            Ok(answer) => {
                let saved = answer.ran.get(1).filter(|saved| saved.exit_code != Some(0));
                let notes = saved.map(|saved| {
                    format!("in force, but its own orders file was not replaced: {}", saved.why())
                });
                Step { progress: Progress::Done, notes: notes.into_iter().collect() }
            }
            Err(Fault::Refused(why)) => Step::refused(why),
            // Perhaps only the answer was lost.
            Err(fault) => match self.state(host) {
                Ok(seen)
                    if seen.orders.as_ref().map(Origin::hash) != Some(self.fleet.origin.hash()) =>
                {
                    Step::refused(fault)
                }
                Ok(seen) if seen.seconds_left.is_none() => Step::done(),
                Ok(_) => Step::refused(fault),
                Err(_) => Step::of(fault),
            },
        }
    }

    fn revert(&self, nth: usize) -> Step {
        let host = self.planned[nth].host;
        let hash = self.fleet.origin.hash().to_string();
        match self.command(host, &one(&["confirm", "--revert", "--expect", &hash, "--json"])) {
            Ok(_) => Step::done(),
            // There may be nothing to end any more.
            Err(fault) => match self.state(host) {
                Ok(seen)
                    if seen.orders.as_ref().map(Origin::hash) != Some(self.fleet.origin.hash()) =>
                {
                    Step::done()
                }
                _ => Step::of(fault),
            },
        }
    }

    fn put_back(&self, nth: usize) -> Step {
        let Planned { host, before, .. } = &self.planned[nth];
        let request = match before {
            Before::Lost => return Step::refused("its earlier orders are not in its history"),
            Before::Nothing => one(&["withdraw", "--yes", "--json"]),
            Before::Revision(number) => {
                let (words, reason) = (number.to_string(), "a roll-out was taken back");
                let request = one(&["post", "--revision", &words, "--json", "--reason", reason]);
                Request { save_revision: Some(*number), ..request }
            }
        };
        match self.command(host, &request) {
            Ok(_) => Step::done(),
            Err(fault) => Step::of(fault),
        }
    }

    /// Hosts that could not be asked to go back do so when their trial is over: waits for
    /// that, and looks.
    fn wait_for_the_rest(&mut self, terminal: &Terminal) {
        let all = self.rollout.phases().iter().enumerate();
        let lapse = all.filter(|(_, phase)| matches!(phase, Phase::Lapses { .. }));
        let mut hosts: Vec<usize> = lapse.map(|(nth, _)| nth).collect();
        let ends = hosts.iter().filter_map(|nth| self.tried[*nth]).max();
        let end = ends.map(|begin| begin + self.options.trial);
        let mut left = end.map(|end| end.saturating_duration_since(Instant::now()));
        // The second time is for a host that began so late that nobody waited for its answer.
        for _ in 0..2 {
            let Some(time) = left.map(|left| left + AFTER_TRIAL) else { return };
            let names = told::names(&hosts, self.planned);
            terminal.warning(&format!(
                "waiting {} until the trial on {names} expires and the kernel there rolls back",
                spoken(time)
            ));
            thread::sleep(time);
            let seen = self.each(&hosts, "looking again", terminal, Self::has_new_orders_for);
            seen.iter()
                .filter(|(_, answer)| matches!(answer, Ok(None)))
                .for_each(|(nth, _)| self.rollout.lapsed(*nth));
            let still = seen.iter().filter_map(|(nth, answer)| Some((*nth, (*answer).ok()??)));
            left = still.clone().map(|(_, left)| left).max();
            hosts = still.map(|(nth, _)| nth).collect();
        }
    }

    /// How long a host goes on trying the new orders; nothing where it has others. `Err`: it
    /// is not known, or they are there to stay.
    fn has_new_orders_for(&self, nth: usize) -> Result<Option<Duration>, ()> {
        let seen = self.state(self.planned[nth].host).map_err(drop)?;
        let is_new = seen.orders.as_ref().map(Origin::hash) == Some(self.fleet.origin.hash());
        match (is_new, seen.seconds_left) {
            (false, _) => Ok(None),
            (true, Some(seconds)) => Ok(Some(Duration::from_secs(seconds))),
            (true, None) => Err(()),
        }
    }
}

/// A request for one command.
fn one(words: &[&str]) -> Request<'static> {
    Request::new(vec![words.iter().map(|word| (*word).to_owned()).collect()])
}

fn report_of(answer: &Answer) -> Result<reach::Report, String> {
    let ran = first(answer).map_err(|fault| fault.to_string())?;
    last_check::possible(ran.json("reach")?)
}
