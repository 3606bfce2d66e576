//! `heron decoder redecode` and `heron decoder job`.

use std::time::Duration;

use anyhow::{Result, bail};
use api::job::{Job, JobState, Redecode};

use crate::args::moment::Moment;
use crate::client::Client;
use crate::commands::decoder::args::{JobVerb, RedecodeArgs};
use crate::show::Out;
use crate::terminal;

/// How often a job is asked about.
const ASK_EVERY: Duration = Duration::from_millis(300);

pub(super) async fn run(client: &Client, out: &Out, verb: JobVerb) -> Result<()> {
    match verb {
        JobVerb::List => list(client, out).await,
        JobVerb::Show { job } => {
            let job: Job = client.get(&client.one("jobs", &job).await?, &[]).await?;
            out.one(&job, lines)
        }
        JobVerb::Remove { job } => {
            client.delete(&client.one("jobs", &job).await?).await?;
            out.said("It is stopped; nothing has changed.")
        }
    }
}

fn lines(job: &Job) -> Vec<(&'static str, String)> {
    vec![
        ("job", job.id.clone()),
        ("model", job.wanted.model.clone()),
        ("state", job.state.name().into()),
        ("done", format!("{} of {} uplinks", job.done, job.total)),
        ("by", job.begun_by.clone()),
        ("note", job.note.clone()),
    ]
}

async fn list(client: &Client, out: &Out) -> Result<()> {
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

pub(super) async fn redecode(client: &Client, out: &Out, args: RedecodeArgs) -> Result<()> {
    let device = match &args.device {
        Some(device) => Some(client.dev_eui(device).await?.to_string()),
        None => None,
    };
    let (from, until) = (args.since.since(), args.until.map(Moment::until));
    let wanted = Redecode { model: args.model, device, from, until };
    let path = client.in_estate("jobs").await?;
    let mut job: Job = client.post(&path, &wanted).await?;
    while !args.no_wait && job.state == JobState::Running {
        tokio::time::sleep(ASK_EVERY).await;
        job = client.get(&format!("{path}/{}", job.id), &[]).await?;
        if !out.json && terminal::shows_progress() {
            eprint!("\r{} of {} uplinks ", job.done, job.total);
        }
    }
    if !out.json && !args.no_wait && terminal::shows_progress() {
        eprint!("\r\u{1b}[K");
    }
    if out.json {
        out.json(&job)?;
    } else {
        let note = if job.note.is_empty() { "it is under way: `heron decoder job list`" } else { &job.note };
        out.line(format!("{} {}: {note}", job.id, job.state.name()))?;
    }
    if matches!(job.state, JobState::Failed | JobState::Cancelled) {
        bail!("the job is {}", job.state.name());
    }
    Ok(())
}
