//! The book brought in line with an inventory.

use lantern_book::{
    BookEdit, BookError, Home, ImportRules, Imports, MachineBook, Mapping, Row, SyncStep, apply_import, glob,
    note_import, plan_import,
};

/// An inventory, ready to be compared with the book.
#[derive(Debug, Clone)]
pub struct Inventory {
    /// What its machines are told from others by.
    pub source: String,
    /// Which columns mean what.
    pub mapping: Mapping,
    /// Its rows.
    pub rows: Vec<Row>,
    /// Tags that all of its machines get.
    pub tags: Vec<String>,
    /// Whether machines of the same name that were in the book before are taken over.
    pub adopt: bool,
    /// Whether rows without an address make machines.
    pub without_address: bool,
}

/// What it would change.
#[derive(Debug, Clone)]
pub struct Plan {
    /// The steps.
    pub steps: Vec<SyncStep>,
}

impl Plan {
    /// How many machines the inventory has no more.
    pub fn gone(&self) -> usize {
        self.steps.iter().filter(|step| matches!(step, SyncStep::Gone { .. })).count()
    }

    /// How many rows made no machine.
    pub fn bad(&self) -> usize {
        self.steps.iter().filter(|step| matches!(step, SyncStep::Bad { .. })).count()
    }
}

/// The rows of which all of these hold: a column and what it is like (`*` and `?` stand for others).
///
/// # Errors
/// A column that no row has.
pub fn rows_like(rows: Vec<Row>, filters: &[(&str, &str)]) -> Result<Vec<Row>, BookError> {
    for (column, _) in filters {
        if !rows.is_empty() && !rows.iter().any(|row| row.contains_key(*column)) {
            let columns = rows.iter().flat_map(Row::keys).map(String::as_str);
            return Err(BookError::unknown("column", column, columns));
        }
    }
    let holds = |row: &Row| {
        filters.iter().all(|(column, pattern)| glob(pattern, row.get(*column).map_or("", String::as_str)))
    };
    Ok(rows.into_iter().filter(holds).collect())
}

impl Inventory {
    /// What would change.
    ///
    /// # Errors
    /// The book.
    pub fn plan(&self, home: &Home) -> Result<Plan, BookError> {
        Ok(self.plan_on(&MachineBook::load(home)?, &Imports::load(home)?))
    }

    fn plan_on(&self, book: &MachineBook, imports: &Imports) -> Plan {
        let rules = ImportRules {
            source: &self.source,
            tags: &self.tags,
            adopt: self.adopt,
            without_address: self.without_address,
        };
        Plan { steps: plan_import(book, imports, &self.mapping, &self.rows, rules) }
    }

    /// Changes the book; machines that the inventory has no more are removed only when that is said. The plan that was carried out: it is made
    /// anew under the lock, since another program may have changed the book meanwhile. A machine that was not to be removed by the plan that was
    /// agreed to is not removed.
    ///
    /// # Errors
    /// The book.
    pub fn carry_out(&self, home: &Home, agreed: &Plan, remove_gone: bool) -> Result<Plan, BookError> {
        let gone = |name: &String| {
            agreed.steps.iter().any(|step| matches!(step, SyncStep::Gone { name: agreed } if agreed == name))
        };
        let plan = MachineBook::edit(home, |edit: &mut BookEdit| {
            let mut plan = self.plan_on(edit.book(), &Imports::load(home)?);
            plan.steps.retain(|step| match step {
                SyncStep::Gone { name } => gone(name),
                _ => true,
            });
            apply_import(edit, &plan.steps, remove_gone)?;
            Ok(plan)
        })?;
        note_import(home, &plan.steps, remove_gone)?;
        Ok(plan)
    }
}
