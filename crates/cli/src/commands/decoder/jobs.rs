//! `heron decoder jobs`.

use anyhow::Result;
use api::job::Job;

use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out) -> Result<()> {
    let jobs: Vec<Job> = client.all(&client.in_estate("jobs").await?, &[]).await?;
    out.list(&jobs, "There was none yet.", &["JOB", "MODEL", "STATE", "DONE", "BY", "NOTE"], |job| {
        let done = format!("{} of {}", job.done, job.total);
        vec![
            job.id.clone(),
            job.wanted.model.clone(),
            job.state.name().into(),
            done,
            job.begun_by.clone(),
            job.note.clone(),
        ]
    })
}
