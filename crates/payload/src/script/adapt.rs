//! Scripts as people have them: written for other places, with exports that mean nothing here, or with another function to
//! decode with.

use rquickjs::Ctx;

use crate::outcome::DecodeError;

/// Declares what scripts for other places export by; on the first line, so that lines keep their numbers.
const MODULE: &str = "var module = { exports: {} }, exports = module.exports; ";
/// The functions a script has defined, a line each: name, and the beginning of its text.
const FUNCTIONS: &str = "Object.getOwnPropertyNames(this).filter((name) => typeof this[name] === 'function')
    .map((name) => name + '\\n' + String(this[name]).slice(0, 400)).filter((text) => !text.includes('[native code]'))";

/// A script made such that it loads here, and what was passed over for that.
pub(crate) fn tolerant(source: &str) -> (String, Vec<String>) {
    let mut notes = Vec::new();
    let mut out = String::with_capacity(source.len() + MODULE.len());
    for line in source.split_inclusive('\n') {
        match exported(line) {
            Some(rest) => {
                let passed = line.len() - rest.len();
                out.extend(std::iter::repeat_n(' ', line[..passed].chars().count()));
                out.push_str(rest);
                notes.push("export is passed over: a decoder is no module".to_owned());
            }
            None => out.push_str(line),
        }
    }
    notes.dedup();
    let own = ["var module", "let module", "const module", "var exports", "let exports", "const exports"];
    if (source.contains("module.exports") || source.contains("exports.")) && !own.iter().any(|own| source.contains(own))
    {
        out.insert_str(0, MODULE);
        notes.push("what is exported is not needed: functions are found by their names".to_owned());
    }
    (out, notes)
}

/// What is left of a line that begins with `export` before a declaration, or that only lists what is exported.
fn exported(line: &str) -> Option<&str> {
    let rest = line.trim_start().strip_prefix("export")?;
    let rest = rest.strip_prefix([' ', '\t'])?.trim_start();
    let rest = rest.strip_prefix("default ").map_or(rest, str::trim_start);
    let declares =
        ["function", "async function", "const ", "let ", "var ", "class "].iter().any(|word| rest.starts_with(word));
    if declares {
        return Some(rest);
    }
    let list = rest.starts_with('{') && rest.trim_end().trim_end_matches(';').ends_with('}');
    // One name, as in `export default decodeUplink;`, is an expression of its own, and means nothing.
    let name = rest.trim_end().trim_end_matches(';');
    let lone = !name.is_empty() && name.chars().all(|c| c.is_alphanumeric() || c == '_' || c == '$');
    if list { Some(if line.ends_with('\n') { "\n" } else { "" }) } else { lone.then_some(rest) }
}

/// A function of a script with the names of what it takes.
struct Other {
    name: String,
    takes: Vec<String>,
}

impl Other {
    fn read(text: &str) -> Option<Self> {
        let (name, code) = text.split_once('\n')?;
        let (_, rest) = code.split_once('(')?;
        let (takes, _) = rest.split_once(')')?;
        let plain = |c: char| c.is_alphanumeric() || matches!(c, '_' | '$');
        let takes: Vec<String> =
            takes.split(',').map(|one| one.trim().to_owned()).filter(|one| !one.is_empty()).collect();
        let all = takes.iter().all(|one| one.chars().all(plain)) && name.chars().all(plain);
        all.then(|| Self { name: name.to_owned(), takes })
    }

    /// What it would be called with, by the names of what it takes.
    fn given(takes: &str) -> &'static str {
        let lower = takes.to_lowercase();
        let has = |words: &[&str]| words.iter().any(|word| lower.contains(word));
        match () {
            () if has(&["port"]) => "input.fPort",
            () if has(&["byte", "payload", "data", "buf"]) => "input.bytes",
            () if has(&["time", "date"]) => "input.recvTime",
            () => "undefined",
        }
    }

    fn decodes(&self) -> bool {
        self.takes.iter().any(|takes| Self::given(takes) == "input.bytes")
    }

    fn sounds_like_it(&self) -> bool {
        let lower = self.name.to_lowercase();
        ["decod", "uplink", "pars"].iter().any(|part| lower.contains(part))
    }

    fn signature(&self) -> String {
        format!("{}({})", self.name, self.takes.join(", "))
    }
}

fn others(ctx: &Ctx<'_>) -> Vec<Other> {
    let found: Vec<String> = ctx.eval(FUNCTIONS).unwrap_or_default();
    let mut all: Vec<Other> = found.iter().filter_map(|text| Other::read(text)).filter(Other::decodes).collect();
    // Of several, one that is called like it.
    all.sort_by_key(|other| !other.sounds_like_it());
    all
}

/// For a script that has nothing to decode with: what else it has, and the line that makes it be called.
pub(crate) fn otherwise(ctx: &Ctx<'_>) -> Option<DecodeError> {
    let other = others(ctx).into_iter().next()?;
    let given: Vec<&str> = other.takes.iter().map(|takes| Other::given(takes)).collect();
    let adapter =
        format!("function decodeUplink(input) {{ return {{ data: {}({}) }}; }}", other.name, given.join(", "));
    Some(DecodeError::Otherwise { signature: other.signature(), adapter })
}

/// Functions of a script that look as if they were meant to decode, and are not called.
pub(crate) fn uncalled(ctx: &Ctx<'_>) -> Vec<String> {
    let meant = |other: &Other| other.sounds_like_it() && !["decodeUplink", "decodeDownlink"].contains(&&*other.name);
    let others = others(ctx).into_iter().filter(meant);
    others.map(|other| format!("{} is called only if decodeUplink does so", other.signature())).collect()
}

#[cfg(test)]
mod tests {
    use crate::{Interpreter, Limits, Script};

    fn read(source: &str) -> (f64, Vec<String>) {
        let script = Script::new(source, Limits::default()).unwrap_or_else(|why| panic!("{source}: {why}"));
        let mut interpreter = Interpreter::new();
        let mut last = 0.0;
        // The second time in a kept world, if it can have one.
        for _ in 0..2 {
            let decoded = script.decode_uplink(&mut interpreter, &[7], 2, 0, || false).unwrap();
            let crate::ReadingValue::Number(n) = decoded.readings[0].value else { panic!("a number") };
            last = n;
        }
        (last, script.notes().to_vec())
    }

    #[test]
    fn exports_are_passed_over_and_said() {
        let plain = "function decodeUplink(input) { return { data: { n: input.bytes[0] } }; }";
        assert_eq!(read(plain), (7.0, vec![]));
        for source in [
            format!("export {plain}"),
            format!("export default {plain}"),
            format!("{plain}\nexport {{ decodeUplink }};"),
            format!("{plain}\nexport default decodeUplink;"),
            "export const decodeUplink = (input) => ({ data: { n: input.bytes[0] } });".into(),
        ] {
            let (n, notes) = read(&source);
            assert!(n == 7.0 && notes[0].contains("export is passed over"), "{source}: {notes:?}");
        }
        for source in [
            format!("{plain}\nmodule.exports = {{ decodeUplink }};"),
            format!("{plain}\nexports.decodeUplink = decodeUplink;"),
            "module.exports = { decodeUplink: (input) => ({ data: { n: input.bytes[0] } }) };".into(),
            "exports.decodeUplink = function (input) { return { data: { n: input.bytes[0] } }; };".into(),
        ] {
            let (n, notes) = read(&source);
            assert!(n == 7.0 && notes[0].contains("found by their names"), "{source}: {notes:?}");
        }
        let guarded = format!("{plain}\nif (typeof module !== 'undefined') module.exports = decodeUplink;");
        assert_eq!(read(&guarded).0, 7.0);
    }

    #[test]
    fn places_stay_where_they_are() {
        let source = "export function decodeUplink(input) {\n  return input.none.data;\n}\nmodule.exports = 1;";
        let script = Script::new(source, Limits::default()).unwrap();
        let why = script.decode_uplink(&mut Interpreter::new(), &[], 1, 0, || false).unwrap_err().to_string();
        assert!(why.contains("line 2"), "{why}");
    }

    #[test]
    fn another_function_to_decode_with_is_offered_an_adapter() {
        let source = "function toNumber(a) { return a; }\nfunction readPayload(port, bytes, more) { return { n: bytes[0] + port }; }";
        let why = Script::new(source, Limits::default()).unwrap_err().to_string();
        let adapter =
            "function decodeUplink(input) { return { data: readPayload(input.fPort, input.bytes, undefined) }; }";
        assert!(why.contains("but readPayload(port, bytes, more)") && why.ends_with(adapter), "{why}");
        let (n, notes) = read(&format!("{source}\n{adapter}"));
        assert_eq!((n, notes.len()), (9.0, 0), "{notes:?}");
        let both = "function decodeUplink(i) { return { data: { n: 1 } } }\nfunction myDecoder(bytes) { return {} }";
        assert_eq!(read(both).1, ["myDecoder(bytes) is called only if decodeUplink does so"]);
        let none = Script::new("function add(a, b) { return a + b }", Limits::default()).unwrap_err().to_string();
        assert_eq!(none, "the script has no function decodeUplink(input)");
        let odd = Script::new("function decode({ bytes }, [a], b = ')') {}", Limits::default()).unwrap_err();
        assert_eq!(odd.to_string(), "the script has no function decodeUplink(input)");
    }
}
