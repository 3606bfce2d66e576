//! `heron account show`.

use anyhow::Result;
use api::people::Me;
use api::people::rights::Right;

use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out) -> Result<()> {
    let me: Me = client.get("/me", &[]).await?;
    out.one(&me, |me| {
        let two_step = match me.two_step {
            true => format!("in use; {} recovery codes are left", me.recovery_codes),
            false => "not in use; begin with `heron account two-step add`".into(),
        };
        let mut lines = vec![("account", me.name.clone())];
        lines.extend(me.token.clone().map(|token| ("by token", token)));
        lines.push(("two steps", two_step));
        if me.given_password {
            lines.push(("password", "the one that was printed; set another with `heron account password`".into()));
        }
        if me.keeps_installation {
            lines.push(("installation", "you look after it".into()));
        }
        for estate in &me.estates {
            let rights: Vec<_> = estate.rights.iter().map(Right::to_string).collect();
            lines.push(("estate", format!("{}: {} ({})", estate.slug, estate.role_label(), rights.join(", "))));
        }
        lines
    })
}
