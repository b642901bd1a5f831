//! `lantern key audit`: what is wrong with keys, each with the command that mends it.

use jiff::Timestamp;
use lantern_book::Home;
use lantern_operations::key_audit::{AuditError, AuditScope, audit_keys};

use crate::cli::key::audit::AuditArgs;
use crate::screen::failure::{Failure, chain, code};
use crate::screen::key_audit;

/// Exit status when something was found.
const FOUND: u8 = 1;

pub(super) fn run(args: &AuditArgs, home: &Home, json: bool) -> Result<u8, Failure> {
    let scope = AuditScope { paths: args.paths.clone(), max_age_days: args.max_age, now: Timestamp::now() };
    let audit = audit_keys(home, &scope).map_err(|error| match error {
        AuditError::Book(error) => error.into(),
        error => Failure::new(code::LOCAL, chain(&error)),
    })?;
    key_audit::print(&audit, json)?;
    Ok(if audit.subjects.is_empty() { 0 } else { FOUND })
}
