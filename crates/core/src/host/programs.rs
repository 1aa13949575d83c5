//! What stands where rules say that a program is.

use std::fmt;

use schemars::JsonSchema;
use serde::Serialize;

/// Why a path that a rule names is not simply the program.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case", tag = "is")]
pub enum ProgramStatus {
    /// A symbolic link: the rule means the file that it leads to.
    Link {
        /// That file.
        to: String,
    },
    /// There is no such file; the rule means what will be started from there.
    Missing,
    /// It cannot be looked for or followed: a circle of links, no permission.
    Unfollowable {
        /// What the system said.
        why: String,
    },
    /// No socket of it can be identified.
    TooDeep {
        /// So many directories can be followed.
        most: usize,
    },
}

/// What there is to say of a program that rules name.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct ProgramNote {
    /// The path as it is written.
    pub path: String,
    /// What is there.
    #[serde(flatten)]
    pub status: ProgramStatus,
}

impl fmt::Display for ProgramNote {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let path = &self.path;
        match &self.status {
            ProgramStatus::Link { to } => {
                write!(f, "{path} is a symbolic link to {to}, which is what is matched")
            }
            ProgramStatus::Missing => {
                write!(
                    f,
                    "{path} does not exist; the rule applies to what is started from there later"
                )
            }
            ProgramStatus::Unfollowable { why } => {
                write!(f, "{path} cannot be resolved ({why}); the rule uses the path as written")
            }
            ProgramStatus::TooDeep { most } => write!(
                f,
                "{path} is nested more than {most} directories deep, so its sockets cannot be \
                 identified: they never match an allow by program, and always match a deny"
            ),
        }
    }
}

impl ProgramNote {
    /// Whether the rule may mean another program than its author thinks.
    pub fn is_doubtful(&self) -> bool {
        !matches!(self.status, ProgramStatus::Link { .. })
    }
}
