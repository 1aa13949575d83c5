//! Whether this machine can carry the gate.

use std::fs::{self, DirBuilder, Permissions};
use std::io;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, PermissionsExt};
use std::path::Path;

use tipstaff_bpf::sys::{self, MapKind};

use crate::contract::GateError;
use crate::kernel::error::{bpf, system};

/// The oldest kernel that was tried: docs/kernels.md.
pub const MIN_KERNEL: (u32, u32) = (6, 1);

/// Checks root, kernel, and that bpf(2) is not refused.
///
/// # Errors
/// The first thing that is missing.
pub fn check_support() -> Result<(), GateError> {
    check_root()?;
    let name = nix::sys::utsname::uname().map_err(|e| system("uname")(e.into()))?;
    let release = name.release().to_string_lossy().into_owned();
    if version_of(&release) < Some(MIN_KERNEL) {
        return Err(GateError::KernelTooOld { release });
    }
    // Root of a container may still be refused; better told before anything is made.
    sys::map_create(MapKind::Array, "ts_probe", 4, 4, 1)
        .map(drop)
        .map_err(bpf("to make a map with bpf(2)"))
}

/// Makes the run folder where it is not, and sees to it that nobody else can
/// put anything in it.
pub(crate) fn run_dir(path: &Path) -> Result<(), GateError> {
    make_run_dir(path).map_err(system(format!("making {}", path.display())))?;
    nobody_elses(path)
}

/// Everybody may pass, whatever the umask: `boot` makes it after a restart, and members of
/// a group may watch through a socket in it.
fn make_run_dir(path: &Path) -> io::Result<()> {
    if path.is_dir() {
        return Ok(());
    }
    if let Some(above) = path.parent().filter(|above| !above.as_os_str().is_empty()) {
        make_run_dir(above)?;
    }
    match DirBuilder::new().mode(0o755).create(path) {
        // Somebody else was faster, or what is there is told by who looks at it.
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists => Ok(()),
        Err(e) => Err(e),
        Ok(()) => fs::set_permissions(path, Permissions::from_mode(0o755)),
    }
}

/// Sees to it that nobody else owns a directory or can put anything in it.
pub(crate) fn nobody_elses(path: &Path) -> Result<(), GateError> {
    let found =
        fs::symlink_metadata(path).map_err(system(format!("looking at {}", path.display())))?;
    let own = nix::unistd::geteuid().as_raw();
    let why = if !found.is_dir() {
        "it is not a directory"
    } else if found.uid() != own && found.uid() != 0 {
        "it is owned by another account"
    } else if found.mode() & 0o022 != 0 {
        "others can write to it"
    } else {
        return Ok(());
    };
    Err(GateError::Untrusted { path: path.display().to_string(), why })
}

pub fn check_root() -> Result<(), GateError> {
    if nix::unistd::geteuid().is_root() { Ok(()) } else { Err(GateError::NotRoot) }
}

fn version_of(release: &str) -> Option<(u32, u32)> {
    let mut parts = release.split(|c: char| !c.is_ascii_digit());
    Some((parts.next()?.parse().ok()?, parts.next()?.parse().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn releases_compare_as_numbers() {
        assert_eq!(version_of("6.18.44-demo"), Some((6, 18)));
        assert!(version_of("6.18.0") > Some(MIN_KERNEL));
        assert!(version_of("6.0.13-1") < Some(MIN_KERNEL));
        assert!(version_of("nonsense") < Some(MIN_KERNEL));
    }
}
