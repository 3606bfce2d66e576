//! `heron account two-step add`.

use anyhow::Result;
use api::people::{PasswordAgain, RecoveryCodes, TwoStepCode, TwoStepSecret};

use super::asked;
use crate::client::Client;
use crate::show::Out;

pub(super) async fn run(client: &Client, out: &Out, stdin: bool) -> Result<()> {
    let password = asked(stdin, "Password")?;
    let secret: TwoStepSecret = client.post("/me/two-step", &PasswordAgain { password: password.into() }).await?;
    eprintln!("Enter this in an app that makes codes: {}", secret.secret.as_str());
    eprintln!("Or, for apps that take an address:     {}", secret.uri);
    let code = asked(stdin, "The six digits it shows")?;
    let codes: RecoveryCodes = client.put("/me/two-step", &TwoStepCode { code }).await?;
    if out.json {
        return out.json(&codes);
    }
    out.line("From now on signing in takes a code. Keep these recovery codes; each is good once:")?;
    codes.codes.iter().try_for_each(|code| out.line(format!("  {}", code.as_str())))
}
