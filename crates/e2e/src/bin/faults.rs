//! `scripts/faults`: breaks things under load, and prints what became of what was acknowledged.

use std::process::ExitCode;

use e2e::faults::{Fault, run};

fn main() -> ExitCode {
    let rounds = std::env::args().nth(1).unwrap_or_else(|| "3".into());
    let Some(rounds) = rounds.parse().ok().filter(|rounds| (1..=1000).contains(rounds)) else {
        eprintln!("faults: {rounds:?} was given; the rounds of each fault are wanted, 1 to 1000");
        return ExitCode::from(2);
    };
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build();
    let account = runtime.expect("a runtime").block_on(run(&Fault::ALL, rounds, |told| eprintln!("» {told}")));
    println!("{account}");
    ExitCode::from(u8::from(!account.holds()))
}
