//! Whether what is in force is still what was posted.

use tipstaff_core::brief::Brief;

use crate::contract::GateError;
use crate::kernel::gate::KernelGate;

impl KernelGate {
    /// Whether the tables in the kernel are those that were posted, read back
    /// byte by byte.
    ///
    /// # Errors
    /// [`GateError::NothingInForce`] among others.
    pub fn is_intact(&self) -> Result<bool, GateError> {
        self.revision()?.ok_or(GateError::NothingInForce)?.is_intact()
    }

    /// Whether the programs of the list in force are still the same files.
    ///
    /// # Errors
    /// [`GateError::NothingInForce`] among others.
    pub fn knows_programs(&self, brief: &Brief) -> Result<bool, GateError> {
        if brief.programs.is_empty() {
            return Ok(true);
        }
        let Some((secret, _)) = self.pins().secrets()? else { return Ok(false) };
        self.revision()?.ok_or(GateError::NothingInForce)?.knows_programs(brief, secret)
    }
}
