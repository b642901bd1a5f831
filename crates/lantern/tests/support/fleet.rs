//! Many machines at once, each a little different.

use lantern_harbour::MachineSpec;

use super::{Desk, Lit, light_all, machine};

/// A desk with a key, and machines `lamp-1` and so on that take it and were changed before they were lit. Those with a fault are in the book, and nothing
/// more is known of them.
pub fn light_fleet(key: &str, count: usize, change: impl Fn(usize, &mut MachineSpec)) -> (Desk, Vec<Lit>) {
    let desk = Desk::new();
    desk.lantern(&["key", "new", key, "--plain"]).expect(0);
    let spec = |number: usize| {
        let mut spec = machine(&format!("lamp-{number}"), &desk.public_key(key));
        change(number, &mut spec);
        spec
    };
    let lit = light_all((1..=count).map(spec).collect());
    for lit in &lit {
        match lit.lit.spec.fault {
            None => desk.add(lit),
            Some(_) => {
                let address = format!("keeper@{}", lit.address);
                desk.lantern(&["machine", "add", &lit.name, &address]).expect(0);
            }
        }
    }
    (desk, lit)
}
