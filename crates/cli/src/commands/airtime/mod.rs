//! `heron airtime`.

pub(crate) mod args;
mod calc;
mod ledger;

use anyhow::Result;

use crate::commands::Context;
use crate::commands::airtime::args::AirtimeVerb;

pub(crate) async fn run(context: &Context, verb: AirtimeVerb) -> Result<()> {
    match verb {
        AirtimeVerb::Show { by } => ledger::run(&context.client()?, &context.out, by).await,
        AirtimeVerb::Calc(args) => calc::calc(&context.out, &args),
    }
}
