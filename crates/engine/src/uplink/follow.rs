//! What an accepted uplink tells of its device: settings, class, signal.

use lorawan::region::AdrSettings;
use lorawan::wire::UplinkFlags;

use crate::device::adr::{AdrVerdict, Situation};
use crate::device::profile::{Class, RadioProfile, Rates};
use crate::device::settings::Settings;
use crate::device::{Device, Link};
use crate::mac;
use crate::mac::Heard;
use crate::notice::Notice;
use crate::time::Timestamp;
use crate::uplink::collect::Collected;

/// An accepted uplink, as far as it tells something of its device.
pub(crate) struct Accepted<'a> {
    pub(crate) counter: u32,
    /// Index in the device's region, if it is one of the region's.
    pub(crate) data_rate: Option<u8>,
    pub(crate) flags: UplinkFlags,
    pub(crate) heard: Heard,
    pub(crate) frame: &'a Collected,
}

/// The result of following it.
#[derive(Default)]
pub(crate) struct Followed {
    /// Whether the settings known of the device have changed.
    pub(crate) changed: bool,
    pub(crate) notices: Vec<Notice>,
}

impl Device {
    /// Follows what an accepted uplink says of the device: its settings, its class, how well it is heard.
    pub(crate) fn follow(&mut self, now: Timestamp, uplink: &Accepted<'_>) -> Followed {
        self.link();
        let Self { config, session, link, .. } = self;
        let profile = &config.profile;
        let (Some(session), Some(link)) = (session.as_deref_mut(), link.as_deref_mut()) else {
            return Followed::default();
        };
        let before = session.settings;
        let settings = &mut session.settings;
        if uplink.flags.ack {
            link.negotiation.heard_us();
        }
        link.last_heard = uplink.frame.first_heard();
        link.times_heard = 1;
        link.heard_by(uplink.frame);
        link.follow_settings(profile, settings, uplink);
        let outcome = link.negotiation.take(now, profile, settings, &uplink.heard.commands);
        if outcome.adr_changed {
            link.history.clear();
        }
        let mut notices = outcome.notices;
        notices.extend(link.follow_class(profile, settings, uplink));
        let best_snr_db = uplink.frame.copies.iter().filter_map(|copy| copy.snr_db).reduce(f32::max);
        link.history.add(uplink.counter, best_snr_db, uplink.frame.copies.len());
        notices.extend(link.adapt_rate(now, profile, settings, uplink));
        Followed { changed: *settings != before, notices }
    }

    /// What the network asks of the device with its next downlink.
    pub(crate) fn asks(&mut self, now: Timestamp, adr: bool) -> Vec<mac::Ask> {
        let (Some(session), Some(link)) = (self.session.as_deref(), self.link.as_deref_mut()) else {
            return Vec::new();
        };
        // One that is personalized cannot join again.
        let joined_at = self.config.root_keys().map(|_| session.joined_at);
        link.negotiation.asks(now, &self.config.profile, (&session.settings, joined_at), adr)
    }
}

impl Link {
    /// The settings that the uplink itself shows.
    fn follow_settings(&mut self, profile: &RadioProfile, settings: &mut Settings, uplink: &Accepted<'_>) {
        if uplink.heard.reset {
            *settings = Settings::personalized(profile);
            self.negotiation.reset();
        }
        if uplink.heard.ping_periodicity.is_some() {
            settings.ping_periodicity = uplink.heard.ping_periodicity;
        }
        if let Some(data_rate) = uplink.data_rate.filter(|rate| *rate != settings.adr.data_rate) {
            // A device that hears nothing goes back to full power before it slows down (TS001 §4.3.1.1).
            let slower = data_rate < settings.adr.data_rate;
            let (tx_power, nb_trans) = if slower { (0, 1) } else { (settings.adr.tx_power, settings.adr.nb_trans) };
            settings.adr = AdrSettings { data_rate, tx_power, nb_trans, ..settings.adr };
            self.history.clear();
        }
    }

    /// The device's class from now on.
    fn follow_class(&mut self, profile: &RadioProfile, settings: &Settings, uplink: &Accepted<'_>) -> Option<Notice> {
        let class = match (profile.class, uplink.heard.class) {
            (_, Some(said)) => said,
            (Class::B, None) if uplink.flags.class_b && settings.ping_periodicity.is_some() => Class::B,
            (Class::B, None) => Class::A,
            (_, None) => self.class,
        };
        let from = std::mem::replace(&mut self.class, class);
        if from == class {
            return None;
        }
        self.changed = true;
        let why = match (from, class) {
            (Class::B, Class::A) => "it has lost the beacon, or no longer looks for it",
            (_, Class::B) => "it has found a beacon and listens in its ping slots",
            _ => "the device says so",
        };
        Some(Notice::ClassChanged { from, to: class, why })
    }

    /// Lets adaptive data rate decide, if the device leaves it to the network; tells what it has not told before.
    fn adapt_rate(
        &mut self,
        now: Timestamp,
        profile: &RadioProfile,
        settings: &Settings,
        uplink: &Accepted<'_>,
    ) -> Option<Notice> {
        let Rates::Adaptive(mut limits) = profile.rates else { return None };
        if !uplink.flags.adr || self.negotiation.busy() {
            return None;
        }
        let (fastest, faintest) = self.negotiation.accepted_limits(now);
        limits.max_data_rate = fastest.map_or(limits.max_data_rate, |rate| rate.min(limits.max_data_rate));
        limits.max_tx_power = faintest.map_or(limits.max_tx_power, |power| power.min(limits.max_tx_power));
        let frame_len = uplink.frame.phy_payload.len();
        let decision = Situation { profile, limits, settings, history: &self.history, frame_len }.decide(now)?;
        if decision.verdict == AdrVerdict::Change {
            self.negotiation.aim(decision.to);
        }
        let told = self.decision.as_ref().is_some_and(|d| d.verdict == decision.verdict && d.to == decision.to);
        self.decision = Some(decision.clone());
        (!told).then(|| Notice::Adr(Box::new(decision)))
    }
}
