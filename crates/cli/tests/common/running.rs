//! A program of ours that has no end, beside what a test does.

// Not every test that has this module uses all of it.
#![allow(dead_code)]

use std::io::Read;
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use tipstaff_testing::patience::in_time;

use crate::common::Lab;

/// A program without an end, and what it has said so far.
pub struct Running {
    pub child: Child,
    said: Arc<Mutex<String>>,
}

impl Running {
    pub fn of(lab: &Lab, arguments: &[&str]) -> Self {
        Self::command(lab, lab.command(arguments))
    }

    pub fn command(lab: &Lab, mut command: Command) -> Self {
        let mut child = lab
            .archive
            .run(move || command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap())
            .unwrap();
        let said = Arc::new(Mutex::new(String::new()));
        let (out, error) = (child.stdout.take().unwrap(), child.stderr.take().unwrap());
        let streams: [Box<dyn Read + Send>; 2] = [Box::new(out), Box::new(error)];
        for mut stream in streams {
            let said = Arc::clone(&said);
            std::thread::spawn(move || {
                let mut bytes = [0; 4_096];
                while let Ok(n @ 1..) = stream.read(&mut bytes) {
                    said.lock().unwrap().push_str(&String::from_utf8_lossy(&bytes[..n]));
                }
            });
        }
        Self { child, said }
    }

    pub fn said(&self) -> String {
        self.said.lock().unwrap().clone()
    }

    #[track_caller]
    pub fn says(&self, what: &str) {
        assert!(in_time(|| self.said().contains(what)), "{what}: {}", self.said());
    }

    pub fn end(&mut self) {
        let _ = kill(Pid::from_raw(self.child.id() as i32), Signal::SIGTERM);
        let _ = self.child.wait();
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.end();
    }
}
