//! What is said between the two ends: one question, one answer, each a line of JSON.

use std::borrow::Cow;

use schemars::JsonSchema;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use tipstaff_core::orders::{Attachments, OrdersHash};

use crate::shape::{self, Shape, WrongSchema, shape};

/// Orders with everything that they name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sheets {
    /// The orders' own text.
    pub text: String,
    /// What they name.
    pub attachments: Attachments,
}

/// What a host is asked to do: commands of tipstaff, one after the other.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Request<'o> {
    /// `tipstaff.fleet-request/1`.
    pub schema: String,
    /// The version of who asks.
    pub version: String,
    /// The arguments of each command.
    pub commands: Vec<Vec<String>>,
    /// What the commands are to read instead of the host's own orders.
    #[serde(default)]
    pub orders: Option<Cow<'o, Sheets>>,
    /// When all commands have ended well, the orders become the host's own file.
    #[serde(default)]
    pub save: bool,
    /// The host's own file becomes what this revision of its history has, likewise.
    #[serde(default)]
    pub save_revision: Option<u32>,
}

/// The name of the schema of a [`Request`].
const REQUEST: &str = "fleet-request";

impl<'o> Request<'o> {
    /// Asks for these commands.
    pub fn new(commands: Vec<Vec<String>>) -> Self {
        let schema = shape::id(REQUEST);
        let version = env!("CARGO_PKG_VERSION").to_owned();
        Self { schema, version, commands, ..Self::default() }
    }

    /// With orders to go by.
    #[must_use]
    pub fn with_orders(self, orders: &'o Sheets) -> Self {
        // A thousand hosts are sent one text, not a thousand copies.
        Self { orders: Some(Cow::Borrowed(orders)), ..self }
    }

    /// Reads one.
    ///
    /// # Errors
    /// [`WrongSchema`].
    pub fn read(text: &str) -> Result<Self, WrongSchema> {
        shape::check(text, REQUEST)?;
        Ok(serde_json::from_str(text)?)
    }
}

/// How a command ended on a host.
#[derive(Clone, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
pub struct Ran {
    /// Its exit code; null: a signal ended it.
    pub exit_code: Option<u8>,
    /// What it wrote on standard output.
    pub output: String,
    /// What it wrote on standard error.
    pub errors: String,
}

/// What tipstaff itself says when a command fails, as its JSON has it.
#[derive(Deserialize)]
struct Told {
    error: String,
    help: Option<String>,
}

impl Ran {
    /// Why it failed, in words.
    pub fn why(&self) -> String {
        if let Ok(Told { error, help }) = serde_json::from_str(&self.output) {
            return match help {
                Some(help) => format!("{error} ({help})"),
                None => error,
            };
        }
        let last = self.errors.lines().chain(self.output.lines()).find(|l| !l.trim().is_empty());
        match (last, self.exit_code) {
            (Some(line), _) => line.trim().to_owned(),
            (None, Some(code)) => format!("it ended with exit code {code}"),
            (None, None) => "a signal ended it".to_owned(),
        }
    }

    /// What it wrote, as JSON with this schema.
    ///
    /// # Errors
    /// Why it is not, in words.
    pub fn json<T: DeserializeOwned>(&self, schema: &str) -> Result<T, String> {
        match shape::check(&self.output, schema) {
            Ok(()) => serde_json::from_str(&self.output).map_err(|e| e.to_string()),
            Err(_) => Err(self.why()),
        }
    }
}

/// What a host answers.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Answer {
    /// The version of tipstaff there.
    pub version: String,
    /// What the machine calls itself.
    pub host: String,
    /// Its clock, in seconds since 1970-01-01 UTC, when it answered.
    pub clock: i64,
    /// The orders file of its own, with all that it names; null: there is none.
    pub file: Option<OrdersHash>,
    /// How each command ended, in their order.
    pub ran: Vec<Ran>,
    /// Why nothing was done; null: it was done.
    pub refused: Option<String>,
    /// How many seconds its clock was ahead of ours (negative: behind), beyond what the time
    /// from the question to the answer explains. Whoever asked fills it in.
    #[serde(skip)]
    pub clock_off: i64,
}

shape!(Answer => "fleet-answer");

impl Answer {
    /// Reads one out of what a host wrote: its last line. Whatever its shell wrote before
    /// that is not ours.
    ///
    /// # Errors
    /// [`WrongSchema`].
    pub fn read(text: &str) -> Result<Self, WrongSchema> {
        let line = text.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or_default();
        shape::check(line, Self::NAME)?;
        Ok(serde_json::from_str(line)?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::shape::Tagged;

    fn line(answer: &Answer) -> String {
        serde_json::to_string(&Tagged::new(answer)).unwrap()
    }

    #[test]
    fn what_is_written_is_read() {
        let ran =
            Ran { exit_code: Some(2), output: String::new(), errors: "tipstaff: no\n".into() };
        let answer = Answer {
            version: "0.1.0".into(),
            host: "mast".into(),
            clock: 1_795_000_000,
            file: None,
            ran: vec![ran],
            refused: None,
            clock_off: 0,
        };
        let text = format!("Welcome to mast\n\n{}\n", line(&answer));
        assert_eq!(Answer::read(&text).unwrap(), answer);
        assert_eq!(answer.ran[0].why(), "tipstaff: no");
        let sheets = Sheets { text: "version = 1\n".into(), attachments: Attachments::default() };
        let request =
            Request::new(vec![vec!["state".into(), "--json".into()]]).with_orders(&sheets);
        let text = serde_json::to_string(&request).unwrap();
        assert_eq!(Request::read(&text).unwrap(), request);
        // A line that is cut off is no answer.
        let cut = &line(&answer)[..80];
        assert!(matches!(Answer::read(cut), Err(WrongSchema::NotJson(_))));
        assert!(matches!(Request::read(&line(&answer)), Err(WrongSchema::Other(_))));
    }

    #[test]
    fn a_command_that_failed_says_why() {
        let told =
            r#"{"schema": "tipstaff.error/1", "error": "a trial is running", "help": "Wait."}"#;
        let ran = Ran { exit_code: Some(2), output: told.into(), errors: String::new() };
        assert_eq!(ran.why(), "a trial is running (Wait.)");
        assert_eq!(ran.json::<serde_json::Value>("post"), Err("a trial is running (Wait.)".into()));
        let ran = Ran { exit_code: Some(101), output: String::new(), errors: String::new() };
        assert_eq!(ran.why(), "it ended with exit code 101");
    }
}
