//! Messages in the shape that an outlet sends.

use std::sync::{Arc, Mutex, PoisonError};

use api::outlet::Shape;
use domain::outlet::shape::shaped;
use store::WrittenMessage;

use super::{Outcome, Shaped};
use crate::decoding::workers::{self, Cause, Failure, Lane, ScriptRef};

/// Brings messages into a shape.
pub(crate) struct Shaper {
    shape: Shape,
    /// The script once a worker has loaded it; a failure that is its own is kept too.
    script: Arc<Mutex<Option<Result<ScriptRef, Failure>>>>,
}

impl Shaper {
    pub(crate) fn new(shape: &Shape) -> Self {
        Self { shape: shape.clone(), script: Arc::default() }
    }

    /// What is sent of each message. A script may leave some out.
    ///
    /// # Errors
    /// Why they cannot be sent: with several, it may be one of them that is at fault.
    pub(super) async fn shape<'a>(&self, messages: &[&'a WrittenMessage]) -> Result<Vec<Shaped<'a>>, Outcome> {
        let Shape::Script(source) = &self.shape else {
            let plain = |written: &&'a WrittenMessage| {
                let json = shaped(&self.shape, &written.json).map_err(|why| Outcome::Refused(why.to_string()))?;
                Ok(json.map(|json| Shaped { written, json }))
            };
            return messages.iter().filter_map(|written| plain(written).transpose()).collect();
        };
        let bodies: Vec<String> = messages.iter().map(|written| written.json.clone()).collect();
        let (source, script) = (source.clone(), Arc::clone(&self.script));
        let made = tokio::task::spawn_blocking(move || transformed(&source, &script, bodies)).await;
        let made = made.map_err(|why| Outcome::Away(format!("the script could not be run: {why}"), None))?;
        let made = made.map_err(|failure| Outcome::Refused(worded(&failure)))?;
        let sent = messages.iter().zip(made).filter_map(|(written, json)| Some(Shaped { written, json: json? }));
        Ok(sent.collect())
    }

    /// What is sent of one message, for its author to see. Blocks.
    ///
    /// # Errors
    /// Why it cannot be sent.
    pub(crate) fn try_one(&self, written: &WrittenMessage) -> Result<Option<String>, Failure> {
        match &self.shape {
            Shape::Script(source) => {
                let made = transformed(source, &self.script, vec![written.json.clone()])?;
                Ok(made.into_iter().next().flatten())
            }
            plain => shaped(plain, &written.json).map_err(|why| Failure::other(Cause::Other, why.to_string())),
        }
    }
}

/// Loads a shape's script, so that one that cannot work is refused when it is saved. Blocks.
///
/// # Errors
/// Why it does not load.
pub(crate) fn check_script(shape: &Shape) -> Result<(), Failure> {
    match shape {
        Shape::Script(source) => workers::load_transform(source).map(drop),
        Shape::Message | Shape::Flat | Shape::Fields(_) => Ok(()),
    }
}

fn worded(failure: &Failure) -> String {
    match failure.line {
        Some(line) => format!("the script failed in line {line}: {}", failure.message),
        None => format!("the script failed: {}", failure.message),
    }
}

/// What a script makes of messages. Blocks.
fn transformed(
    source: &str,
    script: &Mutex<Option<Result<ScriptRef, Failure>>>,
    messages: Vec<String>,
) -> Result<Vec<Option<String>>, Failure> {
    let known = script.lock().unwrap_or_else(PoisonError::into_inner).clone();
    let loaded = match known {
        Some(loaded) => loaded,
        None => {
            let loaded = workers::load_transform(source);
            if !matches!(&loaded, Err(failure) if failure.cause == Cause::Clock) {
                *script.lock().unwrap_or_else(PoisonError::into_inner) = Some(loaded.clone());
            }
            loaded
        }
    }?;
    messages.into_iter().map(|message| workers::transform(&loaded, message, Lane::Outlets)).collect()
}

#[cfg(test)]
mod tests {
    use serde_json::{Value, json};

    use super::*;

    fn written(level: f64) -> WrittenMessage {
        let message = serde_json::from_value(json!({
            "type": "notice", "id": "01KBA7Q2V9ZB3W4X5Y6Z7A8B9C", "time": "2026-05-04T09:12:33.481Z", "estate": "tarnsey",
            "fleet": "tide", "device": null, "code": "silent", "wants_attention": true, "why": "", "next_step": null
        }));
        WrittenMessage { estate_id: 1, message: message.unwrap(), json: json!({ "level": level }).to_string() }
    }

    fn script(text: &str) -> Shaper {
        Shaper::new(&Shape::Script(text.into()))
    }

    #[tokio::test]
    async fn a_script_makes_what_is_sent_and_leaves_out_what_it_will() {
        let shaper =
            script("function transform(message) { return message.level > 2 ? null : { cm: message.level * 100 }; }");
        let (low, high) = (written(1.5), written(2.5));
        let sent = shaper.shape(&[&low, &high]).await.unwrap();
        assert_eq!(sent.len(), 1);
        assert_eq!(serde_json::from_str::<Value>(&sent[0].json).unwrap(), json!({ "cm": 150 }));
    }

    #[tokio::test]
    async fn a_script_that_fails_says_where() {
        let message = written(1.0);
        let failed = |text: &str| {
            let shaper = script(text);
            let message = written(1.0);
            async move { shaper.shape(&[&message]).await.map(|_| ()).unwrap_err() }
        };
        let thrown = failed("function transform(m) {\n  return m.none.level;\n}").await;
        assert!(matches!(&thrown, Outcome::Refused(why) if why.contains("line 2")), "{thrown:?}");
        let endless = failed("function transform(m) { for (;;) {} }").await;
        assert!(
            matches!(&endless, Outcome::Refused(why) if why.contains("loop") || why.contains("steps")),
            "{endless:?}"
        );
        let missing = failed("function decodeUplink(m) { return m; }").await;
        assert!(matches!(&missing, Outcome::Refused(why) if why.contains("transform")), "{missing:?}");
        assert!(check_script(&Shape::Script("function transform(m) { return m }}".into())).is_err());
        assert!(script("function transform(m) { return m; }").try_one(&message).unwrap().is_some());
    }
}
