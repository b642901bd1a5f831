//! Arguments of `lantern machine import`.

use std::path::PathBuf;

use clap::Args;

use super::export::Form;

/// Arguments of `machine import`.
#[derive(Debug, Args)]
#[command(after_help = "Examples:
  lantern machine import machines.csv --plan
  lantern machine import inventory.json --map name=vm --map address=public_ip,private_ip
  lantern machine import cloud.yaml --at instances --only state=running --source north-cloud
  lantern machine import fleet.json --at 'groups[].machines[]' --map 'note=Serial number'
  cat list.json | lantern machine import - --form json --source hypervisor

Done again, it follows the inventory: machines that it added and fields that it set change
with it, machines that are gone are removed after a question. What you set by hand stays.")]
pub(crate) struct ImportArgs {
    /// The inventory; - for standard input
    pub(crate) file: PathBuf,
    /// Its form [default: by the file's name]
    #[arg(long, value_enum)]
    pub(crate) form: Option<Form>,
    /// What to call the source, to tell its machines from others [default: the file's name]
    #[arg(long, value_name = "NAME")]
    pub(crate) source: Option<String>,
    /// Where the list of machines is within the file: names separated by dots, `[]` behind those of lists to go into
    #[arg(long, value_name = "PATH")]
    pub(crate) at: Option<String>,
    /// Fill a field (or `name`) from a column, or the first of several; may be given several times
    #[arg(long = "map", value_name = "FIELD=COLUMN", add = crate::cli::completing::fields_to_say())]
    pub(crate) mappings: Vec<String>,
    /// Take only rows of which this holds; may be given several times
    #[arg(long = "only", value_name = "COLUMN=GLOB")]
    pub(crate) only: Vec<String>,
    /// Give all of them this tag; may be given several times
    #[arg(long = "tag", value_name = "WORD")]
    pub(crate) tags: Vec<String>,
    /// Take over machines of the same name that were in the book before
    #[arg(long)]
    pub(crate) adopt: bool,
    /// Take in rows without an address, too
    #[arg(long)]
    pub(crate) without_address: bool,
    /// Remove machines of this source that it has no more, without asking
    #[arg(long)]
    pub(crate) remove_gone: bool,
    /// Say what would change, and change nothing
    #[arg(long)]
    pub(crate) plan: bool,
}
