//! The worlds scripts run in: globals and built-in objects.
//!
//! Each call finds a world as if it were the first. Making one takes longer than most calls do, so a world is kept
//! and used again for scripts that cannot change it: their built-in objects are locked, their own variables live
//! in a function that is entered for each call, and whatever they leave among the globals is seen afterwards
//! and ends that world. A script that does anything else with built-in objects than to call them, by the words it
//! contains, gets a new world for each call; so does any call that goes wrong in a kept one, for its error is to
//! name the line. A script that pieces a forbidden word together at run time harms the readings of its own model alone.

use std::sync::Arc;

use rquickjs::object::Filter;
use rquickjs::{Context, Function, Object, Runtime};

use crate::outcome::{DecodeError, Entry};
use crate::script::call::{Call, Script, limit};

/// Worlds kept; the one unused for longest gives way.
const KEPT: usize = 16;
/// Calls after which worlds are made again, in case something has stayed behind in memory.
const CALLS: u32 = 10_000;
/// Words without which no script reaches a prototype of the built-in objects, or makes code out of text; and
/// escapes, which could spell any of them.
const REACHING: [&str; 11] =
    ["proto", "Proto", "constructor", "eval", "Function", "Reflect", "Proxy", "Symbol", "globalThis", "\\u", "\\x"];
/// Built-in objects that scripts use.
const BUILT_IN: [&str; 26] = [
    "Array",
    "ArrayBuffer",
    "BigInt",
    "Boolean",
    "DataView",
    "Date",
    "Error",
    "JSON",
    "Map",
    "Math",
    "Number",
    "Object",
    "Promise",
    "RangeError",
    "RegExp",
    "Set",
    "String",
    "TypeError",
    "Uint8Array",
    "WeakMap",
    "decodeURIComponent",
    "isFinite",
    "isNaN",
    "parseFloat",
    "parseInt",
    "WeakSet",
];
/// Where a kept world has its script.
const ENTER: &str = "\u{0}enter";
/// Locks what is there: neither the globals nor the built-in objects behind them can be changed.
const LOCK: &str = "for (const name of Object.getOwnPropertyNames(this)) {
    const value = this[name];
    if (value !== this && (typeof value === 'function' || (typeof value === 'object' && value))) Object.freeze(value);
    Object.defineProperty(this, name, { writable: false, configurable: false });
}";

struct Kept {
    source: Arc<str>,
    /// None if the script has turned out to leave something behind.
    world: Option<(Context, usize)>,
}

/// What scripts run in; each thread that decodes has one.
#[derive(Default)]
pub struct Interpreter {
    kept: Vec<Kept>,
    /// New worlds are made in this; names and machinery of the language, which scripts cannot change.
    runtime: Option<Runtime>,
    calls: u32,
}

impl Interpreter {
    /// One that has nothing made yet.
    pub const fn new() -> Self {
        Self { kept: Vec::new(), runtime: None, calls: 0 }
    }

    /// What to make a new world in.
    pub(crate) fn runtime(&mut self) -> Result<Runtime, DecodeError> {
        match &self.runtime {
            Some(runtime) => Ok(runtime.clone()),
            None => {
                let made = Runtime::new().map_err(|e| DecodeError::Interpreter(e.to_string()))?;
                Ok(self.runtime.insert(made).clone())
            }
        }
    }

    /// Ends everything, in any state.
    pub(crate) fn renew(&mut self) {
        *self = Self::new();
    }

    /// Calls `decodeUplink` in a kept world, if the script can have one and nothing goes wrong.
    pub(crate) fn again(
        &mut self,
        script: &Script,
        stop: impl Fn() -> bool + 'static,
        call: &Call<'_>,
    ) -> Option<Result<String, DecodeError>> {
        self.calls += 1;
        if self.calls > CALLS {
            self.renew();
        }
        let at = match self.kept.iter().position(|kept| Arc::ptr_eq(&kept.source, &script.source)) {
            Some(at) => at,
            None => {
                if self.kept.len() >= KEPT {
                    self.kept.remove(0);
                }
                let world = if can_be_kept(&script.source) { make(&script.source) } else { None };
                self.kept.push(Kept { source: Arc::clone(&script.source), world });
                self.kept.len() - 1
            }
        };
        // The one used last stands last.
        self.kept[at..].rotate_left(1);
        let kept = self.kept.last_mut()?;
        let (context, globals) = kept.world.as_ref()?;
        let stopped = limit(context.runtime(), script.limits, stop);
        let (returned, clean) = context.with(|ctx| {
            let entered = ctx.globals().get::<_, Function>(ENTER).and_then(|enter| enter.call::<_, Function>(()));
            let returned =
                entered.map_err(|e| DecodeError::Interpreter(e.to_string())).and_then(|f| call.make(&ctx, &f));
            if returned.is_err() {
                let _ = ctx.catch();
            }
            (returned, count(&ctx.globals()) == *globals)
        });
        context.runtime().set_interrupt_handler(None);
        if !clean || stopped.get() {
            kept.world = None;
        }
        match returned {
            _ if stopped.get() => Some(Err(DecodeError::TooSlow)),
            Ok(returned) if clean => Some(Ok(returned)),
            _ => None,
        }
    }
}

fn can_be_kept(source: &str) -> bool {
    let code = without_comments(source);
    REACHING.iter().all(|word| !code.contains(word)) && BUILT_IN.iter().all(|name| only_called(&code, name))
}

/// Comments hold words that mean nothing. One that is none, within a text, hides code at worst, whose changes are
/// then without effect.
fn without_comments(source: &str) -> String {
    let mut code = String::with_capacity(source.len());
    let mut rest = source;
    while let Some(at) = rest.find("//").into_iter().chain(rest.find("/*")).min() {
        code.push_str(&rest[..at]);
        let end = if rest[at..].starts_with("//") { "\n" } else { "*/" };
        rest = rest[at..].split_once(end).map_or("", |(_, after)| after);
        code.push('\n');
    }
    code + rest
}

/// Whether a built-in object is called, or a member of it is read, wherever it is named.
fn only_called(code: &str, name: &str) -> bool {
    let part_of_name = |c: char| c.is_alphanumeric() || c == '_' || c == '$';
    code.match_indices(name).all(|(at, _)| {
        let after = &code[at + name.len()..];
        if code[..at].ends_with(|c: char| part_of_name(c) || c == '.') || after.starts_with(part_of_name) {
            return true;
        }
        let after = after.trim_start();
        let Some(member) = after.strip_prefix('.') else { return after.starts_with('(') };
        let then = member.trim_start().trim_start_matches(part_of_name).trim_start();
        then.starts_with(['(', ')', ',', ';', ']', '}'])
    })
}

/// A world with the script in it, and how many globals it has.
fn make(source: &str) -> Option<(Context, usize)> {
    let context = Context::full(&Runtime::new().ok()?).ok()?;
    let globals = context.with(|ctx| {
        let enter = format!("(function () {{{source}\n;return {};\n}})", Entry::DecodeUplink.found());
        let sloppy = || {
            let mut options = rquickjs::context::EvalOptions::default();
            options.strict = false;
            options
        };
        let enter: Function = ctx.eval_with_options(enter, sloppy()).ok()?;
        ctx.globals().set(ENTER, enter).ok()?;
        ctx.eval_with_options::<(), _>(LOCK, sloppy()).ok()?;
        Some(count(&ctx.globals()))
    })?;
    Some((context, globals))
}

fn count(globals: &Object<'_>) -> usize {
    globals.own_keys::<rquickjs::Atom>(Filter::new().string().symbol()).count()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn scripts_that_only_call_built_in_objects_can_have_a_kept_world() {
        for (body, kept) in [
            ("var n = Math.round(b / 10); return { data: { n: n, pi: Math.PI } }", true),
            ("// Number of bytes, by Function\n/* Math = 1 */ return new Date(0)", true),
            ("var myMath = 1; myMath = 2; b.Math = 3", true),
            ("Math.clamp = f", false),
            ("var m = Math; m.x = 1", false),
            ("parseInt = f", false),
            ("Math['x'] = 1", false),
            ("String.prototype.pad = f", false),
            ("Object.getPrototypeOf([]).x = 1", false),
            ("eval('x')", false),
        ] {
            assert_eq!(can_be_kept(&format!("function decodeUplink(input) {{ {body} }}")), kept, "{body}");
        }
    }
}
