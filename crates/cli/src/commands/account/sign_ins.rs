//! `heron account sign-in list`.

use crate::show;
use anyhow::Result;
use api::people::SignInRecord;

use crate::client::Client;
use crate::show::{Out, ago};

pub(super) async fn run(client: &Client, out: &Out) -> Result<()> {
    let all: Vec<SignInRecord> = client.all("/me/sign-ins", &[]).await?;
    out.list(&all, "", &["NUMBER", "SINCE", "LAST USED", "FROM", "PROGRAM", "UNTIL", ""], |s| {
        let (since, until) = (show::moment(s.since), show::day(s.expires_at));
        let this = if s.this_one { "this one" } else { "" };
        let used = ago(Some(s.last_used));
        let (from, program) = (s.address.clone(), s.program.clone());
        vec![s.id.clone(), since.to_string(), used, from, program, until.to_string(), this.into()]
    })
}
