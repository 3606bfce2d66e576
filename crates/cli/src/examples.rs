//! The command line as it is parsed and documented: what `clap` derives, with an example for each command and the short
//! verbs `ls` and `rm`.
//!
//! The examples are about the demo (`scripts/demo`), in an order in which they can be run there: a test runs them.

use clap::{Command, CommandFactory as _};

use crate::commands::Cli;

/// A command, and lines that use it. An id stands for one that a list shows.
type Examples = (&'static str, &'static [&'static str]);

/// Each command's examples.
const EXAMPLES: &[Examples] = &[
    ("sign-in", &["heron sign-in http://127.0.0.1:8680", "heron sign-in https://harbour.example --service harbour"]),
    ("service list", &["heron service list"]),
    ("service use", &["heron service use 127.0.0.1:8680"]),
    ("invitation add", &["heron invitation add viewer --for \"Marit, who looks in\" --days 3"]),
    ("invitation list", &["heron invitation list"]),
    ("invitation remove", &["heron invitation remove 1"]),
    (
        "invitation take",
        &[
            "heron invitation take http://127.0.0.1:8680/invitation#CODE",
            "heron invitation take http://127.0.0.1:8680/invitation#CODE --new-account marit",
        ],
    ),
    ("account show", &["heron account show"]),
    ("account sign-in list", &["heron account sign-in list"]),
    ("account sign-in remove", &["heron account sign-in remove"]),
    ("account password", &["heron account password"]),
    ("account remove", &["heron account remove"]),
    ("account two-step add", &["heron account two-step add"]),
    ("account two-step remove", &["heron account two-step remove"]),
    ("people list", &["heron people list"]),
    ("people show", &["heron people show owner"]),
    ("people roles", &["heron people roles"]),
    ("people set", &["heron people set marit --role operator"]),
    ("people remove", &["heron people remove marit"]),
    ("people leave", &["heron people leave"]),
    ("share add", &["heron share add --fleet grazing --for \"Ylva, of the grazing society\" --until 2027-06-30"]),
    ("share list", &["heron share list"]),
    ("share set", &["heron share set 1 --may operate --until never"]),
    ("share remove", &["heron share remove 1"]),
    ("token add", &["heron token add \"tide board\" --rights view --fleet tide-and-sluice --days 90"]),
    ("token list", &["heron token list"]),
    ("token show", &["heron token show 1"]),
    ("token remove", &["heron token remove 1"]),
    ("estate list", &["heron estate list", "heron estate list --all"]),
    ("estate show", &["heron estate show tarnsey"]),
    ("estate add", &["heron estate add saltholm --name Saltholm --owner \"Runa, across the water\""]),
    ("estate remove", &["heron estate remove saltholm --everything"]),
    ("watch", &["heron watch"]),
    ("find", &["heron find tide"]),
    ("gateway list", &["heron gateway list"]),
    ("gateway show", &["heron gateway show chapel-rise"]),
    (
        "gateway add",
        &["heron gateway add 02a1f00000000009 --name mill-hill --latitude-deg 54.703 --longitude-deg 3.951"],
    ),
    ("gateway strangers", &["heron gateway strangers"]),
    ("gateway adopt", &["heron gateway adopt 02c7e000000000ff --name old-pier"]),
    ("gateway import", &["heron gateway import gateways.csv --dry-run"]),
    (
        "gateway set",
        &["heron gateway set mill-hill --antenna-gain-dbi 5 --cable-loss-db 1.2 --description \"key at the mill\""],
    ),
    ("gateway kit", &["heron gateway kit north-weir --updates --output north-weir.zip"]),
    ("gateway credential add", &["heron gateway credential add north-weir --days 365"]),
    (
        "gateway credential list",
        &["heron gateway credential list north-weir", "heron gateway credential list --ending"],
    ),
    ("gateway credential replace", &["heron gateway credential replace north-weir"]),
    ("gateway credential remove", &["heron gateway credential remove north-weir 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C"]),
    (
        "gateway firmware add",
        &["heron gateway firmware add station-2.bin --signature station-2.sig --key maker.pem --name station-2"],
    ),
    ("gateway firmware list", &["heron gateway firmware list"]),
    ("gateway firmware offer", &["heron gateway firmware offer north-weir 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C"]),
    ("gateway firmware remove", &["heron gateway firmware remove 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C"]),
    ("gateway events", &["heron gateway events chapel-rise --limit 10"]),
    ("gateway reception", &["heron gateway reception chapel-rise"]),
    ("gateway uptime", &["heron gateway uptime chapel-rise"]),
    ("gateway layout", &["heron gateway layout US915 --channels 8-15,65"]),
    ("gateway remove", &["heron gateway remove mill-hill"]),
    ("fleet add", &["heron fleet add moorings --name Moorings --airtime-a-day 30s --downlinks-a-day 10"]),
    ("fleet list", &["heron fleet list"]),
    ("fleet show", &["heron fleet show moorings"]),
    ("fleet set", &["heron fleet set moorings --downlinks-a-day none --keep-values 365"]),
    ("fleet remove", &["heron fleet remove moorings"]),
    ("model list", &["heron model list"]),
    ("model show", &["heron model show brinemark-tg2"]),
    (
        "model add",
        &[
            "heron model add tide-board --maker \"Own make\" --name \"Tide board\" --decoder tide-board.js --unit level=m",
        ],
    ),
    ("model set", &["heron model set tide-board --name \"Tide board, second make\" --unit level=cm"]),
    ("model reading set", &["heron model reading set tide-board level --min 0 --max 900 --decimals 1"]),
    ("model reading list", &["heron model reading list tide-board"]),
    ("model reading remove", &["heron model reading remove tide-board level"]),
    (
        "decoder try",
        &[
            "heron decoder try tide-board.js --port 2 --payload 0a1b2c",
            "heron decoder try tide-board.js --value gate.opening=40",
            "heron decoder try --model brinemark-tg2 --limit 20",
        ],
    ),
    ("decoder test add", &["heron decoder test add tide-board --name \"low water\" --port 2 --payload 0a1b2c"]),
    ("decoder test list", &["heron decoder test list tide-board"]),
    ("decoder test remove", &["heron decoder test remove tide-board \"low water\""]),
    ("decoder edition list", &["heron decoder edition list tide-board"]),
    ("decoder edition compare", &["heron decoder edition compare tide-board --from 1"]),
    ("decoder edition restore", &["heron decoder edition restore tide-board 1"]),
    ("decoder redecode", &["heron decoder redecode brinemark-tg2 --since 30d"]),
    ("decoder job list", &["heron decoder job list"]),
    ("decoder job show", &["heron decoder job show 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C"]),
    ("decoder job remove", &["heron decoder job remove 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C"]),
    ("decoder failures", &["heron decoder failures"]),
    ("model remove", &["heron model remove tide-board"]),
    ("readings list", &["heron readings list tide-01"]),
    ("readings chart", &["heron readings chart tide-01 water_level --since 6h"]),
    ("readings export", &["heron readings export --fleet tide-and-sluice --since 7d --output tides.csv"]),
    (
        "rehearse",
        &[
            "heron rehearse tide-01 --port 2 --payload 0a1b2c0d",
            "heron rehearse tide-01 --again 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C",
        ],
    ),
    ("catalogue list", &["heron catalogue list"]),
    ("catalogue import", &["heron catalogue import --shipped --dry-run", "heron catalogue import catalogue"]),
    ("catalogue refresh", &["heron catalogue refresh shipped --dry-run"]),
    ("catalogue check", &["heron catalogue check catalogue"]),
    ("profile add", &["heron profile add slow --region EU868 --max-data-rate 3 --uplink-interval-s 900"]),
    ("profile list", &["heron profile list"]),
    ("profile show", &["heron profile show slow"]),
    ("profile set", &["heron profile set slow --max-data-rate 2 --dry-run"]),
    ("profile remove", &["heron profile remove slow"]),
    ("device list", &["heron device list", "heron device list --fleet grazing --state silent --sort -last_heard"]),
    ("device show", &["heron device show tide-01"]),
    ("device why", &["heron device why tide-09"]),
    (
        "device add",
        &[
            "heron device add 02b0010000000021 --join-eui 02aa000000000001 --fleet tide-and-sluice --name tide-21 --app-key generate",
        ],
    ),
    ("device strangers", &["heron device strangers"]),
    (
        "device adopt",
        &["heron device adopt 02b0010000000042 --fleet tide-and-sluice --name tide-42 --app-key generate"],
    ),
    ("device import", &["heron device import devices.csv --fleet grazing --dry-run"]),
    ("device export", &["heron device export --fleet grazing --output grazing.csv"]),
    ("device set", &["heron device set tide-21 --tag quay --description \"on the east quay\""]),
    ("device radio show", &["heron device radio show tide-01"]),
    ("device radio set", &["heron device radio set tide-21 --max-data-rate 3"]),
    ("device keys", &["heron device keys tide-21", "heron device keys tide-21 --form c"]),
    ("device labels", &["heron device labels --fleet tide-and-sluice --output labels.pdf"]),
    ("device session show", &["heron device session show tide-01"]),
    ("device session set", &["heron device session set tide-01 --next-down 5000"]),
    ("device session remove", &["heron device session remove collar-11"]),
    ("group add", &["heron group add sluices --fleet tide-and-sluice --class C --member sluice-07"]),
    ("group list", &["heron group list"]),
    ("group show", &["heron group show sluices"]),
    ("group set", &["heron group set sluices --name all-sluices"]),
    ("group keys", &["heron group keys all-sluices"]),
    (
        "outbox add",
        &[
            "heron outbox add sluice-07 --port 10 --payload 28 --confirmed --expires-in 6h",
            "heron outbox add sluice-07 --value opening=40 --dry-run",
            "heron outbox add sluice-07 --command \"open to 40 %\" --dry-run",
            "heron outbox add all-sluices --port 10 --payload 00",
            "heron outbox add tide-21 --port 2 --text hello",
        ],
    ),
    ("outbox list", &["heron outbox list sluice-07"]),
    ("outbox show", &["heron outbox show tide-21 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C"]),
    ("outbox set", &["heron outbox set tide-21 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C --first"]),
    ("outbox remove", &["heron outbox remove tide-21 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C"]),
    (
        "round add",
        &[
            "heron round add --fleet tide-and-sluice --model lodeworth-sluice --value opening=40 --over 10min --dry-run",
            "heron round add --device sluice-07 --device sluice-11 --port 10 --payload 28 --over 1h",
        ],
    ),
    ("round list", &["heron round list"]),
    ("round show", &["heron round show 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C"]),
    ("round remove", &["heron round remove 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C"]),
    ("group remove", &["heron group remove all-sluices"]),
    (
        "outlet add",
        &[
            "heron outlet add harbour-office --to https://harbour.example/keen-heron --fleet tide-and-sluice --type uplink",
            "heron outlet add levels --to https://quay.example/in --field device.name --field readings.water_level.value --together 100",
            "heron outlet add quay-panel --to mqtts://broker.harbour.example --topic quay/{fleet}/{device}/{type} --commands quay/{device}/command --answers quay/{device}/answer",
            "heron outlet add logbook --to files --rotate hour --type join,notice",
            "heron outlet add history --to postgres://db.harbour.example/quay --account heron --password-stdin --table readings --column message=id:text --column level=readings.water_level.value:number --create",
        ],
    ),
    ("outlet list", &["heron outlet list"]),
    ("outlet show", &["heron outlet show harbour-office"]),
    ("outlet test", &["heron outlet test harbour-office"]),
    ("outlet preview", &["heron outlet preview --type uplink --shape flat --latest 2"]),
    ("outlet command list", &["heron outlet command list quay-panel"]),
    ("outlet send", &["heron outlet send harbour-office --since 1h"]),
    ("outlet delivery list", &["heron outlet delivery list harbour-office"]),
    ("outlet letter list", &["heron outlet letter list harbour-office"]),
    ("outlet letter show", &["heron outlet letter show harbour-office 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C"]),
    ("outlet letter send", &["heron outlet letter send harbour-office --all"]),
    ("outlet letter remove", &["heron outlet letter remove harbour-office 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C"]),
    (
        "outlet set",
        &[
            "heron outlet set harbour-office --type uplink,notice --header X-Harbour=north",
            "heron outlet set levels --pause",
        ],
    ),
    ("outlet remove", &["heron outlet remove levels"]),
    ("connect", &["heron connect --fleet tide-and-sluice", "heron connect harbour-office --only python > take.py"]),
    (
        "tail",
        &[
            "heron tail --fleet tide-and-sluice --field device.name --field readings.water_level.value --since 1h --limit 3",
        ],
    ),
    ("device move", &["heron device move tide-21 --to saltholm --fleet buoys"]),
    ("device remove", &["heron device remove tide-21"]),
    (
        "traffic list",
        &["heron traffic list --type uplink,join --since 1h", "heron traffic list --fleet tide-and-sluice --limit 50"],
    ),
    ("traffic follow", &["heron traffic follow --device tide-01"]),
    ("traffic export", &["heron traffic export --since 1d --output traffic.jsonl"]),
    ("frame show", &["heron frame show 40f17dbe4900020001954378762b11ff0d"]),
    ("site list", &["heron site list"]),
    (
        "site add",
        &[
            "heron site add beacon-hill --at 54.716,3.861 --height-m 15",
            "heron site add mole-end --at 54.676,3.968 --height-m 8 --gain-dbi 9 --azimuth-deg 290 \
             --horizontal-beam-deg 65 --tilt-deg 2",
        ],
    ),
    ("site show", &["heron site show beacon-hill"]),
    (
        "site set",
        &[
            "heron site set chapel-rise gull-tower --height-m 20 --dry-run",
            "heron site set beacon-hill --at 54.717,3.862 --height-m 18",
        ],
    ),
    ("site export", &["heron site export --output sites.csv"]),
    ("site import", &["heron site import demo/tarnsey/planned.csv --dry-run"]),
    ("receiver list", &["heron receiver list"]),
    ("receiver add", &["heron receiver add collar --height-m 1.1 --gain-dbi -2 --penetration-loss-db 3"]),
    ("receiver show", &["heron receiver show indoors"]),
    ("receiver set", &["heron receiver set collar --power-dbm 16"]),
    (
        "forecast add",
        &[
            "heron forecast add --name \"four gateways\"",
            "heron forecast add --site chapel-rise --site beacon-hill --receiver collar --radius-m 4000 --cell-m 100",
        ],
    ),
    ("forecast list", &["heron forecast list"]),
    (
        "forecast show",
        &[
            "heron forecast show 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C",
            "heron forecast show 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C --at 54.689,3.942",
            "heron forecast show 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C --next",
        ],
    ),
    (
        "forecast export",
        &[
            "heron forecast export 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C --layer best-site --output best-site.png",
            "heron forecast export 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C --frame 54.69,3.86,54.72,3.91 --scale 2 --output middle.png",
            "heron forecast export 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C --output margin.html",
            "heron forecast export 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C --layer data-rate --output data-rate.kmz",
        ],
    ),
    ("forecast report", &["heron forecast report 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C --output report.xlsx"]),
    (
        "forecast compare",
        &[
            "heron forecast compare 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C",
            "heron forecast compare 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C --with 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C",
        ],
    ),
    ("forecast remove", &["heron forecast remove 01KBA7Q2V9ZB3W4X5Y6Z7A8B9C"]),
    ("receiver remove", &["heron receiver remove collar"]),
    ("site remove", &["heron site remove beacon-hill"]),
    ("link list", &["heron link list --fleet tide-and-sluice", "heron link list --device tide-05 --by measured"]),
    ("link export", &["heron link export --output links.xlsx"]),
    ("link check", &["heron link check --fleet tide-and-sluice"]),
    ("survey show", &["heron survey show --since 7d", "heron survey show --at 54.707,3.949"]),
    ("survey areas", &["heron survey areas"]),
    ("survey changes", &["heron survey changes"]),
    ("survey signal", &["heron survey signal tide-05 chapel-rise"]),
    (
        "survey export",
        &[
            "heron survey export --quantity heard --gateway gull-tower --output heard.geojson",
            "heron survey export --resolution 10 --output margin.csv",
        ],
    ),
    (
        "survey import",
        &[
            "heron survey import demo/tarnsey/drive-test.csv --dry-run",
            "heron survey import demo/tarnsey/drive-test.csv --name harbour --column rssi_dbm=signal",
        ],
    ),
    ("survey imports", &["heron survey imports"]),
    ("calibration add", &["heron calibration add autumn --since 2026-10-01"]),
    ("calibration list", &["heron calibration list"]),
    ("calibration show", &["heron calibration show autumn"]),
    ("calibration remove", &["heron calibration remove autumn"]),
    ("survey remove", &["heron survey remove harbour"]),
    (
        "ground add",
        &[
            "heron ground add demo/tarnsey/heights.tif --kind heights",
            "heron ground add demo/tarnsey/cover.tif --kind cover --name 'what stands there.tif'",
        ],
    ),
    ("ground list", &["heron ground list"]),
    ("ground show", &["heron ground show heights.tif"]),
    ("ground remove", &["heron ground remove heights.tif"]),
    ("coverage terrain", &["heron coverage terrain demo/tarnsey/heights.tif demo/tarnsey/cover.tif"]),
    (
        "coverage path",
        &[
            "heron coverage path --from 54.712,3.884 --to 54.689,3.942 --terrain demo/tarnsey/heights.tif --cover \
             demo/tarnsey/cover.tif --no-data sea",
            "heron coverage path --from 54.712,3.884 --to 54.689,3.942 --terrain demo/tarnsey/heights.tif --model \
             irregular-terrain --time 10 --no-data sea --output profile.png",
        ],
    ),
    (
        "coverage area",
        &[
            "heron coverage area --sites demo/tarnsey/sites.csv --radius-m 3000 --cell-m 100 --terrain \
             demo/tarnsey/heights.tif --cover demo/tarnsey/cover.tif --no-data sea",
            "heron coverage area --sites demo/tarnsey/sites.csv --radius-m 3000 --cell-m 100 --terrain \
             demo/tarnsey/heights.tif --no-data sea --layer data-rate --output data-rate.tif",
        ],
    ),
    ("region list", &["heron region list"]),
    ("region show", &["heron region show EU868"]),
    ("airtime show", &["heron airtime show --by gateway"]),
    ("airtime calc", &["heron airtime calc --region EU868 --payload-bytes 13 --interval 10min"]),
    ("ingest show", &["heron ingest show"]),
    ("audit list", &["heron audit list --kind change --since 2d"]),
    ("audit export", &["heron audit export --since 30d --output audit.csv"]),
    ("bench ingest", &["heron bench ingest --devices 1000 --seconds 10"]),
    ("bench gateways", &["heron bench gateways --by-udp 100 --by-websocket 100 --storm 200"]),
    ("bench api", &["heron bench api --devices 1000"]),
    ("bench charts", &["heron bench charts --reading water_level"]),
    ("agent", &["heron agent --kit connection-kit-02a1f00000000003.zip"]),
    ("scenario import", &["heron scenario import demo/tarnsey --kits kits"]),
    ("scenario run", &["heron scenario run demo/tarnsey --gateways-call 127.0.0.1:1700 --kits kits"]),
    ("completions", &["heron completions bash > ~/.local/share/bash-completion/completions/heron"]),
    ("manual", &["heron manual --output ~/.local/share/man/man1", "heron manual --examples"]),
    ("sign-out", &["heron sign-out"]),
];

/// All examples.
pub(crate) fn all() -> impl Iterator<Item = &'static str> {
    EXAMPLES.iter().flat_map(|(_, lines)| lines.iter().copied())
}

/// The whole command line.
pub(crate) fn command() -> Command {
    told(Cli::command(), &mut Vec::new())
}

/// A command with its examples, and those below it.
fn told(command: Command, path: &mut Vec<String>) -> Command {
    let short = match command.get_name() {
        "list" => Some("ls"),
        "remove" => Some("rm"),
        _ => None,
    };
    let command = match short {
        Some(short) => command.visible_alias(short),
        None => command,
    };
    if command.has_subcommands() {
        return command.mut_subcommands(|below| {
            path.push(below.get_name().to_owned());
            let below = told(below, path);
            path.pop();
            below
        });
    }
    let name = path.join(" ");
    let lines = EXAMPLES.iter().find(|(of, _)| *of == name).map_or(&[][..], |(_, lines)| lines);
    let word = if lines.len() == 1 { "Example" } else { "Examples" };
    command.after_help(format!("{word}:\n  {}", lines.join("\n  ")))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The names of all commands that do something.
    fn leaves(command: &Command, path: &str, into: &mut Vec<String>) {
        for below in command.get_subcommands() {
            let path = format!("{path} {}", below.get_name()).trim().to_owned();
            if below.has_subcommands() { leaves(below, &path, into) } else { into.push(path) }
        }
    }

    /// The words of a line, as a shell would have them.
    fn words(line: &str) -> Vec<String> {
        let line = line.split(" > ").next().unwrap();
        let parts = line.split('"').enumerate();
        let words = parts.flat_map(|(n, part)| match n % 2 {
            0 => part.split_whitespace().map(str::to_owned).collect(),
            _ => vec![part.to_owned()],
        });
        words.collect()
    }

    #[test]
    fn every_command_has_examples_that_can_be_parsed() {
        let mut names = Vec::new();
        leaves(&command(), "", &mut names);
        names.sort();
        let mut told: Vec<String> = EXAMPLES.iter().map(|(name, _)| (*name).to_owned()).collect();
        told.sort();
        assert_eq!(names, told);
        for (name, lines) in EXAMPLES {
            for line in *lines {
                assert!(line.starts_with(&format!("heron {name}")), "{line} is no example of {name}");
                command().try_get_matches_from(words(line)).unwrap_or_else(|why| panic!("{line}: {why}"));
            }
        }
    }

    #[test]
    fn every_option_and_argument_is_told() {
        fn untold(command: &Command, path: &str, into: &mut Vec<String>) {
            let without = command.get_arguments().filter(|arg| arg.get_help().is_none());
            into.extend(without.map(|arg| format!("{path} {}", arg.get_id())));
            command.get_subcommands().for_each(|below| untold(below, &format!("{path} {}", below.get_name()), into));
        }
        let mut without = Vec::new();
        untold(&command(), "heron", &mut without);
        assert_eq!(without, Vec::<String>::new());
    }
}
