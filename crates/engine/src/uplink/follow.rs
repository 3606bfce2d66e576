//! What an accepted uplink tells of its device: settings, class, signal.

use lorawan::region::AdrSettings;

use crate::device::adr::AdrVerdict;
use crate::device::profile::{Class, Rates};
use crate::device::settings::Settings;
use crate::device::{Device, adr};
use crate::mac;
use crate::mac::Heard;
use crate::notice::Notice;
use crate::time::Timestamp;
use crate::uplink::collect::Collected;

impl Device {
    /// Follows what an accepted uplink says of the device: its settings, its class, how well it is heard.
    /// Says whether its settings have changed.
    #[allow(clippy::too_many_arguments)] // what is known of a frame
    pub(crate) fn follow(
        &mut self,
        now: Timestamp,
        counter: u32,
        data_rate: Option<u8>,
        adr: bool,
        class_b: bool,
        heard: &Heard,
        frame: &Collected,
        notices: &mut Vec<Notice>,
    ) -> bool {
        let profile = self.config.profile.clone();
        self.link();
        let (Some(session), Some(link)) = (self.session.as_deref_mut(), self.link.as_deref_mut()) else { return false };
        let before = session.settings;
        let settings = &mut session.settings;
        link.last_heard = frame.first_heard();
        link.times_heard = 1;
        link.heard_by(frame);
        if heard.reset {
            *settings = Settings::personalized(&profile);
            link.negotiation.reset();
        }
        if heard.ping_periodicity.is_some() {
            settings.ping_periodicity = heard.ping_periodicity;
        }
        if let Some(data_rate) = data_rate.filter(|rate| *rate != settings.adr.data_rate) {
            // A device that hears nothing goes back to full power before it slows down (TS001 §4.3.1.1).
            let slower = data_rate < settings.adr.data_rate;
            let (tx_power, nb_trans) = if slower { (0, 1) } else { (settings.adr.tx_power, settings.adr.nb_trans) };
            settings.adr = AdrSettings { data_rate, tx_power, nb_trans, ..settings.adr };
            link.history.clear();
        }
        let outcome = link.negotiation.take(now, &profile, settings, &heard.commands);
        if outcome.adr_changed {
            link.history.clear();
        }
        notices.extend(outcome.notices);

        let class = match (profile.class, heard.class) {
            (_, Some(said)) => said,
            (Class::B, None) if class_b && settings.ping_periodicity.is_some() => Class::B,
            (Class::B, None) => Class::A,
            (other, None) => {
                if link.class == other {
                    other
                } else {
                    link.class
                }
            }
        };
        if class != link.class {
            let why = match (link.class, class) {
                (Class::B, Class::A) => "it has lost the beacon, or no longer looks for it",
                (_, Class::B) => "it has found a beacon and listens in its ping slots",
                _ => "the device says so",
            };
            notices.push(Notice::ClassChanged { from: link.class, to: class, why });
            link.class = class;
            link.changed = true;
        }

        link.history.add(counter, frame.copies.iter().filter_map(|c| c.snr_db).reduce(f32::max), frame.copies.len());
        if let (Rates::Adaptive(limits), true, false) = (profile.rates, adr, link.negotiation.busy()) {
            let (fastest, faintest) = link.negotiation.accepted_limits(now);
            let mut limits = limits;
            limits.max_data_rate = fastest.map_or(limits.max_data_rate, |rate| rate.min(limits.max_data_rate));
            limits.max_tx_power = faintest.map_or(limits.max_tx_power, |power| power.min(limits.max_tx_power));
            let len = frame.phy_payload.len();
            if let Some(decision) = adr::decide(now, &profile, &limits, settings, &link.history, len) {
                let told = link.decision.as_ref().is_some_and(|d| d.verdict == decision.verdict && d.to == decision.to);
                if decision.verdict == AdrVerdict::Change {
                    link.negotiation.aim(decision.to);
                }
                if !told {
                    notices.push(Notice::Adr(Box::new(decision.clone())));
                }
                link.decision = Some(decision);
            }
        }
        *settings != before
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
