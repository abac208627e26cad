//! How long a run takes: a million dispatches of a typical handler.

use census::flow::world::World;
use census::rehearse::layout::Layout;
use census::rehearse::machine::{Machine, Reach, Unobserved};
use census::rehearse::value::Value;

fn main() {
    divan::main();
}

const SCRIPT: &str = r#"script loading for mailboat

on loaded(amount) when not busy {
    if parcels + amount <= hold_size {
        parcels += amount
        if parcels == hold_size {
            trips += 1
            parcels = 0
        }
    }
    let room = hold_size - parcels
    oil = max(oil - 0.5, 0.0)
    if oil < 1 {
        oil = 50
    }
    last_room = room
}
"#;

const REGISTRY: &str = r#"[owners.mailboat]
kind = "actor"

[signals.loaded]
from = "engine"
parameters = { amount = "int" }

[variables.mailboat]
parcels = { type = "int", scope = "instance", default = 0, min = 0, max = "mailboat.hold_size" }
hold_size = { type = "int", scope = "instance", default = 20 }
trips = { type = "int", scope = "instance", default = 0 }
oil = { type = "number", scope = "instance", default = 50, min = 0, max = 100 }
busy = { type = "bool", scope = "instance", default = false }
last_room = { type = "int", scope = "instance", default = 0 }
"#;

#[divan::bench(sample_count = 5, sample_size = 1)]
fn a_million_dispatches(bencher: divan::Bencher<'_, '_>) {
    let files = [
        ("oaken.toml".to_owned(), bench::config("Dispatches")),
        ("registry/all.toml".to_owned(), REGISTRY.to_owned()),
        ("scripts/all.oaken".to_owned(), SCRIPT.to_owned()),
    ];
    let project = census::project::build(bench::sources(&files));
    let world = World::new(&project);
    let layout = Layout::new(&project, &world.graphs);
    let signal = census::registry::SignalId(0);
    bencher.bench(|| {
        let mut machine = Machine::new(&layout, 0, Unobserved);
        machine.start();
        let boat = machine.memory.all_live()[0];
        for _ in 0..1_000_000 {
            machine.fire(signal, [Value::Int(1)], Reach::Happens(boat));
        }
        machine.now
    });
}
