//! Scripts that bring messages into another shape: `transform(message)` returns what is to be sent, or `null` for a message
//! that is left out.

use crate::outcome::{DecodeError, Entry, MAX_SCRIPT_BYTES};
use crate::script::call::{Limits, Script, call};
use crate::script::interpreter::Interpreter;

impl Script {
    /// Takes a script that transforms messages, after loading it once.
    ///
    /// # Errors
    /// If it does not load, or has no `transform`.
    pub fn transforming(source: impl Into<String>, limits: Limits) -> Result<Self, DecodeError> {
        let source = source.into();
        if source.len() > MAX_SCRIPT_BYTES {
            return Err(DecodeError::TooLong(source.len()));
        }
        let script = Self { source: source.into(), limits, encodes: false, reads_downlinks: false, notes: [].into() };
        script.run(&mut Interpreter::new(), || false, |ctx| Entry::Transform.of(ctx).map(drop))?;
        Ok(script)
    }

    /// What is to be sent of a message, both JSON; `None` if it is left out. Each message has a new world, so that nothing
    /// is carried over from one to the next.
    ///
    /// # Errors
    /// If the script throws, returns nothing, or uses up what it may.
    pub fn transform(
        &self,
        interpreter: &mut Interpreter,
        message: &str,
        stop: impl Fn() -> bool + 'static,
    ) -> Result<Option<String>, DecodeError> {
        let returned = self.run(interpreter, stop, |ctx| {
            let function = Entry::Transform.of(ctx)?;
            let input = ctx.json_parse(message).ok().and_then(rquickjs::Value::into_object);
            let input = input.ok_or_else(|| DecodeError::Interpreter("the message is no object".into()))?;
            call(ctx, Entry::Transform, &function, input)
        })?;
        Ok(Some(returned).filter(|json| json != "null"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn transform(source: &str, message: &str) -> Result<Option<String>, DecodeError> {
        let script = Script::transforming(source, Limits::default())?;
        script.transform(&mut Interpreter::new(), message, || false)
    }

    #[test]
    fn what_it_returns_is_sent() {
        let message = r#"{"device":{"name":"sluice-07"},"readings":{"level":{"value":2.5}}}"#;
        let source = "const transform = m => ({ name: m.device.name, cm: m.readings.level.value * 100 });";
        assert_eq!(transform(source, message).unwrap().unwrap(), r#"{"name":"sluice-07","cm":250}"#);
        let alone = "function transform(m) { return m.readings.level.value; }";
        assert_eq!(transform(alone, message).unwrap().unwrap(), "2.5");
        assert_eq!(transform("function transform(m) { return null; }", message).unwrap(), None);
    }

    #[test]
    fn what_it_cannot_do_is_told() {
        assert!(matches!(
            transform("function transform(m) { }", "{}"),
            Err(DecodeError::BadResult(Entry::Transform, _))
        ));
        assert!(matches!(transform("let x = 1;", "{}"), Err(DecodeError::Missing(Entry::Transform))));
        assert!(matches!(transform("function transform( {", "{}"), Err(DecodeError::Load { .. })));
        let thrown = transform("function transform(m) {\n  throw new Error('no level'); }", "{}").unwrap_err();
        assert!(thrown.to_string().contains("transform threw: Error: no level (line 2"), "{thrown}");
        assert_eq!(transform("function transform(m) { for (;;) {} }", "{}"), Err(DecodeError::TooSlow));
        let greedy = "function transform(m) { const all = []; for (;;) all.push(new Array(1000).fill(7)); }";
        assert!(matches!(transform(greedy, "{}"), Err(DecodeError::TooMuchMemory(_))));
    }

    #[test]
    fn nothing_is_carried_over() {
        let source = "let seen = 0; function transform(m) { seen += 1; return seen; }";
        let script = Script::transforming(source, Limits::default()).unwrap();
        let mut interpreter = Interpreter::new();
        for _ in 0..3 {
            assert_eq!(script.transform(&mut interpreter, "{}", || false).unwrap().unwrap(), "1");
        }
    }
}
