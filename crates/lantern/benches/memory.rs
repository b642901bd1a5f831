//! Memory of an idle connection: resident pages of this process before and after many logins. The machines run in a
//! child, so that only the client's side is counted.

#![allow(clippy::unwrap_used, clippy::print_stdout, clippy::panic, clippy::expect_used)]

#[path = "support/elsewhere.rs"]
mod elsewhere;
mod support;

use elsewhere::Elsewhere;
use support::{on_this_thread, resident};

const LINKS: usize = 200;

fn main() {
    elsewhere::be_the_machine();
    let Elsewhere { scene, .. } = &Elsewhere::light();
    on_this_thread(async {
        // The first one brings in code and tables that all share.
        let mut links = vec![scene.connect().await];
        let before = resident();
        for _ in 0..LINKS {
            links.push(scene.connect().await);
        }
        let each = (resident() - before) as f64 / LINKS as f64 / 1024.0;
        println!("memory of an idle connection: {each:.0} KiB resident, over {LINKS} of them");
    });
}
