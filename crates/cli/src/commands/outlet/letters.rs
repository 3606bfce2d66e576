//! `heron outlet letter`.

use anyhow::Result;
use api::outlet::{DeadLetter, GivenAnswer, MadeRequest, Replayed};
use serde_json::json;

use super::{path, short};
use crate::client::{Client, segment};
use crate::commands::outlet::args::LetterVerb;
use crate::show::{self, Out};

/// A request and the answer to it.
pub(super) fn exchange(request: &MadeRequest, answer: Option<&GivenAnswer>) -> Vec<(&'static str, String)> {
    let mut lines = vec![("request", request.line.clone())];
    lines.extend(request.headers.iter().map(|(name, value)| ("", format!("{name}: {value}"))));
    lines.push(("", request.body.clone()));
    match answer {
        Some(answer) => lines.extend([("answer", answer.status.to_string()), ("", answer.body.clone())]),
        None => lines.push(("answer", "none".into())),
    }
    lines
}

fn lines(letter: &DeadLetter) -> Vec<(&'static str, String)> {
    let device = letter.message.device.as_ref().map_or("–", |device| device.name.as_str());
    let mut lines = vec![
        ("letter", letter.id.clone()),
        ("message", format!("{} {} of {device}", letter.message.id, letter.message.body.kind())),
        ("given up", show::moment(letter.given_up_at)),
        ("tries", letter.tries.to_string()),
        ("because", letter.why.clone()),
    ];
    lines.extend(exchange(&letter.request, letter.answer.as_ref()));
    lines
}

pub(super) async fn run(client: &Client, out: &Out, verb: LetterVerb, yes: bool) -> Result<()> {
    let of = |outlet: String| async move {
        Ok::<_, anyhow::Error>(format!("{}/dead-letters", path(client, &outlet).await?))
    };
    match verb {
        LetterVerb::List { outlet } => {
            let all: Vec<DeadLetter> = client.all(&of(outlet).await?, &[]).await?;
            let head = ["LETTER", "GIVEN UP", "TYPE", "DEVICE", "TRIES", "WHY"];
            out.list(&all, "There are no dead letters.", &head, |letter| {
                let device = letter.message.device.as_ref().map_or_else(|| "–".into(), |device| device.name.clone());
                vec![
                    letter.id.clone(),
                    show::moment(letter.given_up_at),
                    letter.message.body.kind().into(),
                    device,
                    letter.tries.to_string(),
                    short(&letter.why),
                ]
            })
        }
        LetterVerb::Show { outlet, letter } => {
            let letter: DeadLetter = client.get(&format!("{}/{}", of(outlet).await?, segment(&letter)), &[]).await?;
            out.one(&letter, lines)
        }
        LetterVerb::Send { outlet, letter, .. } => {
            let path = match letter {
                Some(letter) => format!("{}/{}/replay", of(outlet).await?, segment(&letter)),
                None => format!("{}/replay", of(outlet).await?),
            };
            let replayed: Replayed = client.post(&path, &json!({})).await?;
            let what = if replayed.letters == 1 { "letter is" } else { "letters are" };
            out.said(format!("{} dead {what} tried once more.", replayed.letters))
        }
        LetterVerb::Remove { outlet, letter } => {
            show::confirm(yes, &format!("The message of dead letter {letter} will not be delivered."))?;
            client.delete(&format!("{}/{}", of(outlet).await?, segment(&letter))).await?;
            out.said(format!("Dead letter {letter} was removed."))
        }
    }
}
