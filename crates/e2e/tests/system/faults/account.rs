//! The shipped run of faults, shortly: one round of each.

use e2e::faults::{Fault, run};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whatever_breaks_nothing_acknowledged_is_lost_or_doubled_and_no_counter_used_twice() {
    let account = run(&Fault::ALL, 1, |told| eprintln!("{told}")).await;
    eprintln!("{account}");
    assert!(account.holds(), "{account}");
    assert!(account.0.iter().all(|(_, tally)| tally.rounds == 0 || tally.acknowledged > 50), "{account}");
}
