//! `lantern manual`

use std::fs;

use clap::{Command, CommandFactory};

use crate::cli::Cli;
use crate::cli::manual::ManualArgs;
use crate::screen::failure::{Failure, code};
use crate::screen::output;

pub(crate) fn run(args: &ManualArgs) -> Result<(), Failure> {
    let failed =
        |error: std::io::Error| Failure::new(code::LOCAL, format!("cannot write the manual: {error}"));
    let mut command = Cli::command();
    command.build();
    match &args.to {
        None => {
            let mut page = Vec::new();
            clap_mangen::Man::new(command).render(&mut page).map_err(failed)?;
            output::print_raw(&page)
        }
        Some(folder) => {
            fs::create_dir_all(folder).map_err(failed)?;
            let mut count = 0;
            write_pages(&command, folder, &mut count).map_err(failed)?;
            output::say(format!("{count} pages in {}", folder.display()));
            Ok(())
        }
    }
}

fn write_pages(command: &Command, folder: &std::path::Path, count: &mut u32) -> std::io::Result<()> {
    let name = command.get_display_name().unwrap_or(command.get_name()).to_owned();
    if name.contains("help") {
        return Ok(());
    }
    let page = clap_mangen::Man::new(command.clone().name(name.clone().leak() as &'static str));
    let mut text = Vec::new();
    page.render(&mut text)?;
    fs::write(folder.join(format!("{name}.1")), text)?;
    *count += 1;
    command.get_subcommands().try_for_each(|inner| write_pages(inner, folder, count))
}
