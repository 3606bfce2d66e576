//! From what a device is set to, to what is wanted of it: what is under way, what was refused, and when it
//! is asked again.

use lorawan::MacVersion;
use lorawan::mac::{Battery, DownCommand, ForceRejoin, UpCommand};
use lorawan::region::AdrSettings;

use crate::device::profile::{MAX_EXTRA, RadioProfile, Rates};
use crate::device::settings::Settings;
use crate::mac::ask::{About, Ask, Reply, is_answer, is_sticky};
use crate::notice::Notice;
use crate::time::{DAY_US, Timestamp, shift};

/// Requests in a row without any answer after which they rest for a day.
const PATIENCE: u8 = 8;
/// A refusal rests a day, then two, four, and then a week each time.
const LONGEST_REST_DAYS: i64 = 7;
/// Rejoin-requests that a device is to send after the first, if it hears no answer.
const REJOIN_RETRIES: u8 = 3;
/// Room for commands in a header (TS001 §4.3.1.6).
pub(crate) const MAX_FOPTS: usize = 15;

/// What a device reported.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Health {
    /// Its battery.
    pub battery: Battery,
    /// SNR at which it heard the question, in dB.
    pub margin_db: i8,
    /// When it said so.
    pub at: Timestamp,
}

/// A setting that the device refused.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RefusedSetting {
    /// The setting, as text.
    pub what: String,
    /// How often in a row.
    pub times: u8,
    /// When it did so first, of these times.
    pub since: Timestamp,
    /// When it did so last.
    pub at: Timestamp,
    /// When it is asked again.
    pub again_at: Timestamp,
}

/// How far the device's settings agree with the wanted ones.
#[derive(Debug, Clone, PartialEq)]
pub struct Negotiated {
    /// What the device is known to be set to.
    pub known: Settings,
    /// The wanted settings.
    pub wanted: Settings,
    /// Requests sent, in words, that the device's next uplink should answer.
    pub under_way: Vec<String>,
    /// What it refused.
    pub refused: Vec<RefusedSetting>,
    /// Downlinks with requests, in a row, that no answer came to.
    pub unanswered: u8,
    /// What it last said of battery and margin.
    pub health: Option<Health>,
}

#[derive(Debug)]
struct Refused {
    about: About,
    what: String,
    times: u8,
    since: Timestamp,
    at: Timestamp,
    again_at: Timestamp,
}

impl Refused {
    fn told(&self) -> RefusedSetting {
        let Self { times, since, at, again_at, .. } = *self;
        RefusedSetting { what: self.what.clone(), times, since, at, again_at }
    }
}

/// What a device's answers led to.
#[derive(Debug, Default)]
pub(crate) struct Outcome {
    pub(crate) notices: Vec<Notice>,
    /// The settings have changed.
    pub(crate) changed: bool,
    /// Data rate, power or repetitions have.
    pub(crate) adr_changed: bool,
}

/// The MAC negotiation with one device.
#[derive(Debug, Default)]
pub(crate) struct Negotiation {
    under_way: Vec<Ask>,
    refused: Vec<Refused>,
    unanswered: u8,
    /// Uplinks to let pass before asking again.
    rest: u8,
    /// Data rate, power and repetitions that adaptive data rate has settled on.
    target: Option<AdrSettings>,
    status_asked_at: Option<Timestamp>,
    rejoin_asked_at: Option<Timestamp>,
    health: Option<Health>,
    /// Repeated answers that have been handled and may come again.
    repeated: Vec<UpCommand>,
}

impl Negotiation {
    /// What the device refuses.
    pub(crate) fn refusals(&self) -> impl Iterator<Item = RefusedSetting> {
        self.refused.iter().map(Refused::told)
    }

    pub(crate) fn report(&self, profile: &RadioProfile, known: &Settings) -> Negotiated {
        Negotiated {
            known: *known,
            wanted: self.wanted(profile, known),
            under_way: self.under_way.iter().map(|ask| ask.label(profile)).collect(),
            refused: self.refusals().collect(),
            unanswered: self.unanswered,
            health: self.health,
        }
    }

    /// The clock was set by this much.
    pub(crate) fn shift(&mut self, by_us: i64) {
        shift(&mut self.status_asked_at, by_us);
        shift(&mut self.rejoin_asked_at, by_us);
        for refused in &mut self.refused {
            for time in [&mut refused.since, &mut refused.at, &mut refused.again_at] {
                *time = time.plus_us(by_us);
            }
        }
    }

    /// A new session: nothing is under way, and what was refused may be asked again.
    pub(crate) fn reset(&mut self) {
        *self = Self { health: self.health, status_asked_at: self.status_asked_at, ..Self::default() };
    }

    pub(crate) fn busy(&self) -> bool {
        !self.under_way.is_empty()
    }

    /// Sets what adaptive data rate wants.
    pub(crate) fn aim(&mut self, target: AdrSettings) {
        self.target = Some(target);
    }

    fn wanted(&self, profile: &RadioProfile, known: &Settings) -> Settings {
        let mut wanted = known.wanted(profile);
        if let (Some(target), Rates::Adaptive(_)) = (self.target, profile.rates) {
            // A target from before the profile changed may use more power than it allows.
            let tx_power = target.tx_power.max(profile.lowest_tx_power());
            wanted.adr = AdrSettings { channels: wanted.adr.channels, tx_power, ..target };
        }
        wanted
    }

    /// Whether something is refused and not to be asked for yet.
    pub(crate) fn refuses(&self, about: About, now: Timestamp) -> bool {
        self.refused.iter().any(|r| r.about == about && now < r.again_at)
    }

    /// What the network wants to ask now.
    pub(crate) fn asks(
        &mut self,
        now: Timestamp,
        profile: &RadioProfile,
        (known, joined_at): (&Settings, Option<Timestamp>),
        adr: bool,
    ) -> Vec<Ask> {
        if self.rest > 0 {
            self.rest -= 1;
            return Vec::new();
        }
        let mut wanted = self.wanted(profile, known);
        // A device that decides its data rate itself heeds neither data rate nor power (TS001 §4.3.1.1).
        if !adr || matches!(profile.rates, Rates::Device) || self.refuses(About::Adr, now) {
            wanted.adr = AdrSettings { channels: wanted.adr.channels, ..known.adr };
        }
        if self.refuses(About::DataRate(wanted.adr.data_rate), now) {
            wanted.adr.data_rate = known.adr.data_rate;
        }
        if self.refuses(About::TxPower(wanted.adr.tx_power), now) {
            wanted.adr.tx_power = known.adr.tx_power;
        }
        if self.refuses(About::Channels(wanted.adr.channels.intersection(known.defined)), now) {
            wanted.adr.channels = known.adr.channels;
        }
        let mut asks = Ask::all(profile, known, &wanted);
        let every_us = i64::from(profile.status_every_s) * 1_000_000;
        if every_us > 0 && self.status_asked_at.is_none_or(|at| now.since(at) >= every_us) {
            asks.push(Ask::Status);
        }
        asks.extend(joined_at.and_then(|joined_at| self.renewal(now, profile, known, joined_at)));
        let rests = |ask: &Ask| self.refused.iter().any(|refused| now < refused.again_at && ask.carries(refused.about));
        asks.retain(|ask| !rests(ask));
        asks
    }

    /// A session that is old enough is renewed. Nothing answers this but a rejoin-request, so it is asked once a day.
    fn renewal(&self, now: Timestamp, profile: &RadioProfile, known: &Settings, joined_at: Timestamp) -> Option<Ask> {
        let days = profile.renew_after_days.filter(|_| profile.version == MacVersion::V1_1)?;
        let due = now.since(joined_at) >= i64::from(days) * DAY_US;
        let asked = self.rejoin_asked_at.is_some_and(|at| now.since(at) < DAY_US);
        (due && !asked).then_some(Ask::Rejoin(ForceRejoin {
            period: 0,
            max_retries: REJOIN_RETRIES,
            rejoin_type: 0,
            data_rate: known.adr.data_rate,
        }))
    }

    /// Those of `asks` that fit into `room` bytes of a header, and their bytes.
    pub(crate) fn fitting(asks: Vec<Ask>, room: usize) -> (Vec<Ask>, Vec<u8>) {
        let mut bytes = Vec::new();
        let mut taken = Vec::new();
        for ask in asks {
            let before = bytes.len();
            ask.commands().iter().for_each(|c: &DownCommand| c.emit(&mut bytes));
            if bytes.len() > room {
                bytes.truncate(before);
            } else {
                taken.push(ask);
            }
        }
        (taken, bytes)
    }

    /// The requests were sent.
    pub(crate) fn sent(&mut self, now: Timestamp, asks: Vec<Ask>) {
        if asks.contains(&Ask::Status) {
            self.status_asked_at = Some(now);
        }
        if asks.iter().any(|ask| matches!(ask, Ask::Rejoin(_))) {
            self.rejoin_asked_at = Some(now);
        }
        if !asks.is_empty() {
            self.under_way = asks;
            self.under_way.retain(|ask| !matches!(ask, Ask::Rejoin(_)));
        }
    }

    /// The requests were not sent after all.
    pub(crate) fn not_sent(&mut self) {
        if self.under_way.contains(&Ask::Status) {
            self.status_asked_at = None;
        }
        self.under_way.clear();
    }

    /// Takes the commands of a new uplink, which come in the order of the requests.
    pub(crate) fn take(
        &mut self,
        now: Timestamp,
        profile: &RadioProfile,
        known: &mut Settings,
        commands: &[UpCommand],
    ) -> Outcome {
        let mut outcome = Outcome::default();
        let mut open = std::mem::take(&mut self.under_way);
        let asked = open.len();
        let mut last_link_adr = None;
        for command in commands.iter().filter(|c| is_answer(c)) {
            if let UpCommand::DevStatusAns { battery, margin_db } = *command {
                self.health = Some(Health { battery, margin_db, at: now });
                outcome.notices.push(Notice::Health { battery, margin_db });
            }
            let Some((at, reply)) = open.iter().enumerate().find_map(|(i, ask)| Some((i, ask.reply(command)?))) else {
                // A block of several LinkADRReq is answered several times, each time the same.
                let again = last_link_adr.as_ref() == Some(command);
                if !again && !self.repeated.contains(command) {
                    outcome.notices.push(Notice::UnaskedAnswer { command: *command });
                }
                continue;
            };
            let ask = open.remove(at);
            if is_sticky(command) && !self.repeated.contains(command) {
                self.repeated.push(*command);
            }
            if matches!(command, UpCommand::LinkAdrAns { .. }) {
                last_link_adr = Some(*command);
            }
            match reply {
                Reply::Yes => self.granted(now, &ask, (profile, known), &mut outcome),
                Reply::No(parts) => self.denied(now, (&ask, &parts), (profile, known), &mut outcome),
            }
        }
        if open.len() < asked {
            (self.unanswered, self.rest) = (0, 0);
        } else if asked > 0 {
            outcome.notices.extend(self.nothing_answered(now, profile, &open));
        }
        outcome
    }

    /// The device accepted a request.
    fn granted(
        &mut self,
        now: Timestamp,
        ask: &Ask,
        (profile, known): (&RadioProfile, &mut Settings),
        outcome: &mut Outcome,
    ) {
        self.refused.retain(|r| !ask.carries(r.about));
        if *ask == Ask::Status {
            return;
        }
        outcome.changed = true;
        outcome.adr_changed |= matches!(ask, Ask::LinkAdr { .. });
        ask.apply(profile, known);
        self.channel_came(now, ask, known);
        outcome.notices.push(Notice::SettingTaken { what: ask.label(profile) });
    }

    /// The device refused these parts of a request.
    fn denied(
        &mut self,
        now: Timestamp,
        (ask, parts): (&Ask, &[About]),
        (profile, known): (&RadioProfile, &mut Settings),
        outcome: &mut Outcome,
    ) {
        let what = ask.label(profile);
        let again_at = parts.iter().map(|about| self.refuse(*about, &what, now)).max().unwrap_or(now);
        if matches!(ask, Ask::LinkAdr { .. }) {
            self.target = None;
        }
        if let Some(mask) = parts.iter().find(|part| matches!(part, About::Channels(_))) {
            outcome.changed |= self.mask_refused(*mask, profile, known);
        }
        outcome.notices.push(Notice::SettingRefused { what, parts: parts_in_words(parts), again_at });
    }

    /// No request of the last downlink was answered. Says so when it has happened often enough to stop asking.
    fn nothing_answered(&mut self, now: Timestamp, profile: &RadioProfile, open: &[Ask]) -> Option<Notice> {
        self.unanswered = self.unanswered.saturating_add(1);
        // Asked again after 1, 2, 4 … 32 uplinks: what is not heard at once may not be heard at all.
        self.rest = (1u8 << (self.unanswered - 1).min(5)) - 1;
        if open.contains(&Ask::Status) {
            self.status_asked_at = None;
        }
        if self.unanswered < PATIENCE {
            return None;
        }
        let what: Vec<String> = open.iter().map(|ask| ask.label(profile)).collect();
        let again_at = open.iter().map(|ask| self.refuse(ask.about(), &ask.label(profile), now)).max();
        let times = std::mem::take(&mut self.unanswered);
        self.rest = 0;
        Some(Notice::SettingUnanswered { what: what.join(", "), times, again_at: again_at.unwrap_or(now) })
    }

    /// A downlink was heard: sticky answers end.
    pub(crate) fn heard_us(&mut self) {
        self.repeated.clear();
    }

    /// A device that refuses its channels does not have them all: it has those that every device of the region has, and
    /// is given the others again. Once only; a device that refuses them again has other reasons. Returns whether that
    /// changes what is known of it.
    fn mask_refused(&self, mask: About, profile: &RadioProfile, known: &mut Settings) -> bool {
        let first = self.refused.iter().any(|refused| refused.about == mask && refused.times == 1);
        let every = profile.plan().known_channels();
        if !first || !profile.plan().dynamic() || known.defined == every {
            return false;
        }
        let on = known.adr.channels.intersection(every);
        known.defined = every;
        known.adr.channels = if on.is_empty() { every } else { on };
        known.extra_hz = [0; MAX_EXTRA];
        true
    }

    /// A device has taken a channel. What it refused because the channel was missing may be asked again now.
    fn channel_came(&mut self, now: Timestamp, ask: &Ask, known: &Settings) {
        let Ask::NewChannel(_) = ask else { return };
        for refused in self.refused.iter_mut().filter(|refused| refused.times == 1) {
            if let About::Channels(mask) = refused.about
                && mask.difference(known.defined).is_empty()
            {
                refused.again_at = now;
            }
        }
    }

    fn refuse(&mut self, about: About, what: &str, now: Timestamp) -> Timestamp {
        let before = self.refused.iter().find(|r| r.about == about);
        let (times, since) = before.map_or((1, now), |r| (r.times.saturating_add(1), r.since));
        let days = (1i64 << (times - 1).min(3)).min(LONGEST_REST_DAYS);
        let again_at = now.plus_us(days * DAY_US);
        self.refused.retain(|r| r.about != about);
        self.refused.push(Refused { about, what: what.to_owned(), times, since, at: now, again_at });
        again_at
    }

    /// The fastest data rate and the highest TXPower index that the device has not refused.
    pub(crate) fn accepted_limits(&self, now: Timestamp) -> (Option<u8>, Option<u8>) {
        let active = || self.refused.iter().filter(move |r| now < r.again_at);
        let below =
            |pick: fn(&About) -> Option<u8>| active().filter_map(|r| pick(&r.about)).min().map(|v| v.saturating_sub(1));
        (
            below(|about| if let About::DataRate(v) = about { Some(*v) } else { None }),
            below(|about| if let About::TxPower(v) = about { Some(*v) } else { None }),
        )
    }
}

fn parts_in_words(parts: &[About]) -> String {
    let words: Vec<String> = parts
        .iter()
        .map(|about| match about {
            About::DataRate(index) => format!("DR{index}"),
            About::TxPower(index) => format!("TXPower {index}"),
            About::Channels(_) => "the channel mask".into(),
            About::Windows => "the receive windows".into(),
            About::Channel(index) => format!("channel {index}"),
            About::PingChannel => "the ping slots' channel".into(),
            About::BeaconFrequency => "the beacon's frequency".into(),
            About::DownlinkChannel(index) => format!("RX1 of channel {index}"),
            About::DutyCycle
            | About::Delay
            | About::Dwell
            | About::Status
            | About::AdrAck
            | About::RejoinTimes
            | About::Rejoin
            | About::Adr => "the setting".into(),
        })
        .collect();
    words.join(" and ")
}
