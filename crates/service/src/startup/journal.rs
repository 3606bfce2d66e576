//! Opening the journal: frames still to be processed, damage, and quarantined frames.

use std::path::Path;

use anyhow::{Context as _, Result};
use api::diagnosis::device::Weight;
use engine::Timestamp;

use crate::clock;
use crate::clock::Moment;
use crate::ingest::journal::quarantine::QuarantinedFrames;
use crate::ingest::journal::{Clocks, Journal, Opened};
use crate::ingest::network::Before;
use crate::pipeline::condition::Condition;

/// A smaller correction is not reported.
const TOLD_US: i64 = 2_000_000;

/// Opens the journal of a data folder.
///
/// # Errors
/// If it cannot be read or begun.
pub(crate) fn open(
    data: &Path,
    mark: Option<(Option<u64>, Timestamp)>,
    looks_back_us: i64,
    condition: &Condition,
) -> Result<(Journal, Before)> {
    let folder = data.join("journal");
    let Moment { at: now, .. } = clock::moment();
    let clocks = Clocks { now, since_boot_us: clock::since_boot_us() };
    let next_position = mark.and_then(|(position, _)| position).unwrap_or(0);
    let opened = Journal::open(&folder, next_position, (&clock::boot_id(), clocks)).context("opening the journal")?;
    let Opened { mut journal, records, damaged, clock_off_us } = opened;
    for (place, bytes) in &damaged {
        let what = format!(
            "{bytes} bytes of the journal could not be read; the rest of that segment was. It is kept as {}.",
            place.display()
        );
        condition.note(Weight::Trouble, what, "Check the disk with the data folder. Frames in those bytes are lost.");
    }
    if clock_off_us.abs() > TOLD_US {
        let s = clock_off_us as f64 / 1e6;
        let what =
            format!("The clock was off by {s:.0} s when frames in the journal were heard; their times were corrected.");
        tracing::warn!("{what}");
        condition.note(
            Weight::Attention,
            what,
            "See that this machine gets the network's time before the service starts.",
        );
    }
    let mut before = Before::part(records, mark, looks_back_us);
    // Quarantined frames are tried again: journalled first, then removed.
    let quarantined = QuarantinedFrames::beside(&folder);
    let mut kept = quarantined.all().context("reading frames of quarantined devices")?;
    if !kept.is_empty() {
        tracing::info!("{} frames of devices that were quarantined are tried again", kept.len());
        kept.iter_mut().for_each(|frame| frame.reception.heard_at = frame.reception.heard_at.min(now));
        let (first, written) = journal.append(&kept, clocks.since_boot_us);
        written.context("putting frames of quarantined devices back into the journal")?;
        // The engine before this one was handed them, and did nothing with them.
        before.handed.retain(|frame| !kept.iter().any(|kept| kept.phy_payload == frame.phy_payload));
        before.new.extend((first..).map(Some).zip(kept));
        quarantined.clear().context("clearing frames of quarantined devices")?;
    }
    Ok((journal, before))
}
