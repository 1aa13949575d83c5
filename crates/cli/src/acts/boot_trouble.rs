//! What went wrong at the last start, where `state` finds it.

use std::path::PathBuf;
use std::{fmt, fs};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tipstaff_host::files;

use crate::arguments::Common;
use crate::shape::shape;

/// What came of the last start, where it was not as it should be.
#[derive(Clone, Debug, JsonSchema, Serialize, Deserialize)]
pub struct Trouble {
    /// The revision that should have been put in force; `None`: there was none.
    pub wanted: Option<u32>,
    /// Why it was not.
    pub why: String,
    /// What holds instead: `revision 6`, `sealed`, `nothing`.
    pub instead: String,
}

/// What came of a start; null: all as it should be.
#[derive(JsonSchema, Serialize)]
pub struct Booted<'t> {
    pub trouble: Option<&'t Trouble>,
}

shape!(Booted<'_> => "boot");

/// Where it is written: gone with the next restart.
pub fn trouble_path(common: &Common) -> PathBuf {
    common.run_dir.join("boot.json")
}

/// What went wrong at the last start.
pub fn trouble(common: &Common) -> Option<Trouble> {
    let mut file = files::open(&trouble_path(common)).ok()?;
    serde_json::from_str(&file.text(files::MOST_TEXT).ok()?).ok()
}

/// A post made it good.
pub fn made_good(common: &Common) {
    let _ = fs::remove_file(trouble_path(common));
}

/// `revision 7 could not be put in force (…); in force instead: revision 6`.
impl fmt::Display for Trouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.wanted {
            Some(number) => write!(f, "revision {number} could not be put in force")?,
            None => f.write_str("there were no orders to put in force")?,
        }
        write!(f, " ({}); in force instead: {}", self.why, self.instead)
    }
}
