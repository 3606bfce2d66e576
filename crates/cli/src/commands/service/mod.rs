//! `heron service`: the services signed in to on this machine. `heron sign-in` adds one, `heron sign-out` removes it.

pub(crate) mod args;

use anyhow::Result;
use serde::Serialize;

use crate::commands::Context;
use crate::commands::service::args::ServiceVerb;
use crate::session;

/// A sign-in without its token.
#[derive(Serialize)]
struct Known {
    name: String,
    url: String,
    current: bool,
}

pub(crate) fn run(context: &Context, verb: ServiceVerb) -> Result<()> {
    let out = &context.out;
    match verb {
        ServiceVerb::List => {
            let all = session::all(&context.global)?;
            let known = |(name, stored): (&String, &session::Stored)| Known {
                name: name.clone(),
                url: stored.url.clone(),
                current: all.current.as_ref() == Some(name),
            };
            let known: Vec<Known> = all.services.iter().map(known).collect();
            let none = "Not signed in anywhere. Next: `heron sign-in URL`.";
            out.list(&known, none, &["SERVICE", "ADDRESS", ""], |s| {
                vec![s.name.clone(), s.url.clone(), if s.current { "in use" } else { "" }.into()]
            })
        }
        ServiceVerb::Use { name } => {
            session::switch(&context.global, &name)?;
            out.said(format!("Commands go to {name} from now on."))
        }
    }
}
