//! Adaptive data rate: the fastest data rate and the lowest power at which a device is still heard with
//! reserve.
//!
//! TS001 §4.3.1.1 leaves the method to the network. This one asks, for every data rate the device may use,
//! what SNR its uplinks would arrive with, from the best copies of the recent ones; takes the fastest that
//! leaves the margin its profile wants; and turns power down by what is left over. Slowing down happens
//! later than speeding up, so that it does not swing.

use std::cmp::Ordering;
use std::collections::VecDeque;

use lorawan::region::AdrSettings;
use lorawan::{Modulation, airtime};

use crate::device::profile::{AdrLimits, RadioProfile};
use crate::device::settings::Settings;
use crate::time::Timestamp;

/// Uplinks looked at.
pub(crate) const WINDOW: usize = 20;
/// Uplinks after which a first, careful decision is made.
const FIRST: usize = 4;
/// Subtracted from the level until the window is full.
const FEW_PENALTY_DB: f32 = 3.0;
/// If the signal varies by more, the device counts as moving.
const MOVING_SPREAD_DB: f32 = 15.0;
/// Additional reserve for a moving device.
const MOVING_RESERVE_DB: f32 = 5.0;
/// Power is turned down only if this much remains beyond a step, so that it does not swing.
const POWER_HYSTERESIS_DB: f32 = 1.0;
/// One TXPower step (RP002, "TXPower" of each region).
const POWER_STEP_DB: f32 = 2.0;
/// From this share of lost uplinks on, NbTrans grows by one.
const MUCH_LOSS: f32 = 0.10;
/// From this share on, the data rate is not raised.
const TOO_MUCH_LOSS: f32 = 0.30;
/// Below this share, NbTrans shrinks by one.
const LITTLE_LOSS: f32 = 0.02;
/// Payload for which savings are computed while the device's own is not known.
const HEADER_AND_MIC: usize = 13;

#[derive(Debug, Clone, Copy)]
struct Sample {
    counter: u32,
    snr_db: f32,
    gateways: u8,
}

/// Recent uplinks of one device, all sent with the same settings.
#[derive(Debug, Default)]
pub(crate) struct History(VecDeque<Sample>);

impl History {
    /// Adds an uplink; FSK and LR-FHSS tell no SNR and are left out.
    pub(crate) fn add(&mut self, counter: u32, snr_db: Option<f32>, gateways: usize) {
        let Some(snr_db) = snr_db else { return };
        if self.0.len() == WINDOW {
            self.0.pop_front();
        }
        self.0.push_back(Sample { counter, snr_db, gateways: u8::try_from(gateways).unwrap_or(u8::MAX) });
    }

    /// The device's settings have changed: what was measured before no longer counts.
    pub(crate) fn clear(&mut self) {
        self.0.clear();
    }

    fn measure(&self, limits: &AdrLimits) -> Option<Measured> {
        if self.0.len() < FIRST {
            return None;
        }
        let mut levels: Vec<f32> = self.0.iter().map(|s| s.snr_db).collect();
        levels.sort_by(f32::total_cmp);
        let (worst_db, best_db) = (levels[0], levels[levels.len() - 1]);
        let moving = limits.mobile || (levels.len() >= WINDOW / 2 && best_db - worst_db > MOVING_SPREAD_DB);
        let level_db = match levels.len() {
            _ if moving => worst_db,
            WINDOW.. => levels[levels.len() / 4],
            _ => worst_db - FEW_PENALTY_DB,
        };
        let span = self.0.back()?.counter.saturating_sub(self.0.front()?.counter).saturating_add(1);
        let heard = levels.len() as u32;
        let gateways = self.0.iter().map(|s| s.gateways).max().unwrap_or(0);
        Some(Measured {
            uplinks: heard,
            lost: span.saturating_sub(heard),
            level_db,
            worst_db,
            best_db,
            gateways,
            moving,
        })
    }
}

/// What the recent uplinks were like.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Measured {
    /// Uplinks looked at.
    pub uplinks: u32,
    /// Uplinks between them that were not heard.
    pub lost: u32,
    /// SNR of best copies that the decision is planned with: what three of four reach, or less while there are few.
    pub level_db: f32,
    /// The lowest.
    pub worst_db: f32,
    /// The highest.
    pub best_db: f32,
    /// Gateways that heard one of them, at most.
    pub gateways: u8,
    /// Whether the device counted as moving.
    pub moving: bool,
}

impl Measured {
    fn loss(&self) -> f32 {
        self.lost as f32 / (self.uplinks + self.lost).max(1) as f32
    }
}

/// The outcome.
#[derive(Debug, Clone, PartialEq)]
pub enum AdrVerdict {
    /// The device is to change.
    Change,
    /// No change is needed.
    Fits,
    /// The margin is missing, but it is at its slowest data rate and full power already.
    Strained,
    /// Too many uplinks are lost to raise the data rate.
    Lossy,
}

/// A decision with its reasons.
#[derive(Debug, Clone, PartialEq)]
pub struct AdrDecision {
    /// When.
    pub at: Timestamp,
    /// The uplink it was made with.
    pub counter: u32,
    /// What was measured.
    pub measured: Measured,
    /// The margin wanted.
    pub margin_db: f32,
    /// SNR that the present data rate needs.
    pub required_snr_db: f32,
    /// What the device was set to.
    pub from: AdrSettings,
    /// What it should be set to.
    pub to: AdrSettings,
    /// The outcome.
    pub verdict: AdrVerdict,
    /// Airtime of one message with all its repetitions, before and after.
    pub airtime_us: (u64, u64),
    /// Electric charge for sending it, before and after, in microampere hours; see [`charge_uah`].
    pub charge_uah: (f64, f64),
}

/// Charge for sending at a power for a time, in µAh: a model to compare with, not a measurement. A
/// transmitter at 3.3 V turns 30 % of what its amplifier takes into radiation, and 20 mA feed the rest.
pub fn charge_uah(eirp_dbm: f32, airtime_us: u64) -> f64 {
    let radiated_mw = 10f64.powf(f64::from(eirp_dbm) / 10.0);
    let current_ma = 20.0 + radiated_mw / (3.3 * 0.3);
    current_ma * 1000.0 * airtime_us as f64 / 3.6e9
}

/// SNR a modulation needs, and the noise its bandwidth lets in beyond 125 kHz.
fn needs_db(modulation: Modulation) -> Option<(f32, f32)> {
    match modulation {
        Modulation::Lora { spreading_factor, bandwidth } => {
            let noise_db = 10.0 * (bandwidth.hz() as f32 / 125_000.0).log10();
            Some((spreading_factor.required_snr_db() as f32, noise_db))
        }
        Modulation::Fsk { .. } | Modulation::LrFhss { .. } => None,
    }
}

/// The inputs of a decision.
pub(crate) struct Situation<'a> {
    pub(crate) profile: &'a RadioProfile,
    pub(crate) limits: AdrLimits,
    /// What the device is set to.
    pub(crate) settings: &'a Settings,
    pub(crate) history: &'a History,
    /// Length of the device's last frame.
    pub(crate) frame_len: usize,
}

/// The SNR that other settings would give.
struct Levels<'a> {
    of: &'a Situation<'a>,
    margin_db: f32,
    /// SNR at full power, in a bandwidth of 125 kHz.
    full_power_db: f32,
}

impl Levels<'_> {
    /// What would remain above the margin at a data rate with full power; nothing for one that may not be used.
    fn spare_db(&self, data_rate: u8) -> Option<f32> {
        let (plan, settings) = (self.of.profile.plan(), self.of.settings);
        let rate = plan.data_rate(data_rate).filter(|_| plan.sends_at(data_rate, settings.uplink_dwell_time))?;
        let (required, noise) = needs_db(rate.modulation)?;
        let channels = settings.adr.channels;
        let carried = plan.network_uplinks().any(|c| channels.contains(c.index) && c.carries(data_rate));
        carried.then_some(self.full_power_db - noise - required - self.margin_db)
    }

    /// The data rates that may be used, with what would remain.
    fn usable(&self) -> impl Iterator<Item = (u8, f32)> {
        let limits = &self.of.limits;
        (limits.min_data_rate..=limits.max_data_rate).filter_map(|rate| Some((rate, self.spare_db(rate)?)))
    }

    /// The data rate to use, with what remains, and the slowest one.
    fn choose(&self, lossy: bool) -> Option<((u8, f32), u8)> {
        let (now, limits) = (self.of.settings.adr.data_rate, &self.of.limits);
        let slowest = self.usable().min_by_key(|(rate, _)| *rate)?;
        let fastest = self.usable().filter(|(_, spare)| *spare >= 0.0).max_by_key(|(rate, _)| *rate);
        let mut chosen = fastest.unwrap_or(slowest);
        // Slower only once half the margin is gone at full power.
        let still_does = |spare: &f32| *spare > -limits.margin_db / 2.0 && now <= limits.max_data_rate;
        if chosen.0 < now
            && let Some(spare) = self.spare_db(now).filter(still_does)
        {
            chosen = (now, spare);
        }
        if lossy && chosen.0 > now {
            chosen = (now, self.spare_db(now).unwrap_or(0.0));
        }
        Some((chosen, slowest.0))
    }
}

impl Situation<'_> {
    /// Decides, if there are enough uplinks.
    pub(crate) fn decide(&self, at: Timestamp) -> Option<AdrDecision> {
        let strongest = self.profile.lowest_tx_power();
        let measured = self.history.measure(&self.limits)?;
        let from = self.settings.adr;
        let (required_snr_db, noise_now_db) = needs_db(self.profile.plan().data_rate(from.data_rate)?.modulation)?;
        let margin_db = self.limits.margin_db + if measured.moving { MOVING_RESERVE_DB } else { 0.0 };
        let lowered_db = POWER_STEP_DB * f32::from(from.tx_power);
        let full_power_db = measured.level_db + noise_now_db + lowered_db;
        let lossy = measured.loss() >= TOO_MUCH_LOSS;
        let levels = Levels { of: self, margin_db, full_power_db };
        let ((data_rate, spare_db), slowest) = levels.choose(lossy)?;

        let mut to = AdrSettings { data_rate, ..from };
        to.tx_power = power(&from, data_rate, spare_db, &self.limits, measured.moving || lossy);
        // A faster data rate is undone by the device itself if it was too much; less power is not, so it waits
        // for more uplinks.
        if (measured.uplinks as usize) < WINDOW / 2 {
            to.tx_power = to.tx_power.min(from.tx_power);
        }
        to.tx_power = to.tx_power.max(strongest);
        to.nb_trans = repetitions(from.nb_trans, measured.loss(), measured.uplinks as usize, &self.limits);

        let spare_now = full_power_db - noise_now_db - required_snr_db - lowered_db;
        let verdict = if to != from {
            AdrVerdict::Change
        } else if lossy {
            AdrVerdict::Lossy
        } else if spare_now < margin_db / 2.0 && data_rate == slowest && from.tx_power <= strongest {
            AdrVerdict::Strained
        } else {
            AdrVerdict::Fits
        };
        let (before, after) = (self.cost(&from), self.cost(&to));
        Some(AdrDecision {
            at,
            counter: self.history.0.back()?.counter,
            measured,
            margin_db,
            required_snr_db,
            from,
            to,
            verdict,
            airtime_us: (before.0, after.0),
            charge_uah: (before.1, after.1),
        })
    }

    /// Airtime in µs and charge in µAh of one message with all its repetitions.
    fn cost(&self, settings: &AdrSettings) -> (u64, f64) {
        let (plan, len) = (self.profile.plan(), self.frame_len.max(HEADER_AND_MIC));
        let once_us = plan.data_rate(settings.data_rate).map_or(0, |rate| airtime::uplink_us(rate.modulation, len));
        let airtime_us = once_us * u64::from(settings.nb_trans);
        let eirp_dbm = plan.tx_power.dbm(settings.tx_power).unwrap_or(plan.tx_power.max_dbm);
        (airtime_us, charge_uah(eirp_dbm, airtime_us))
    }
}

/// The TXPower index for what remains at full power.
fn power(from: &AdrSettings, data_rate: u8, spare_db: f32, limits: &AdrLimits, keep_strong: bool) -> u8 {
    // A device that moves meets worse places; one that loses uplinks is not made fainter.
    if keep_strong {
        return 0;
    }
    let steps = |db: f32| (db / POWER_STEP_DB).floor().clamp(0.0, f32::from(limits.max_tx_power)) as u8;
    let most = steps(spare_db);
    let now_db = spare_db - POWER_STEP_DB * f32::from(from.tx_power);
    match most.cmp(&from.tx_power) {
        _ if data_rate != from.data_rate => most,
        Ordering::Greater => steps(spare_db - POWER_HYSTERESIS_DB).max(from.tx_power),
        // A little less than the reserve wanted is no reason to change back.
        Ordering::Less if now_db > -2.0 * POWER_HYSTERESIS_DB => from.tx_power,
        _ => most,
    }
}

/// NbTrans for a measured loss.
fn repetitions(now: u8, loss: f32, uplinks: usize, limits: &AdrLimits) -> u8 {
    let now = now.max(1);
    let wanted = match loss {
        _ if uplinks < WINDOW / 2 => now,
        much if much >= MUCH_LOSS => now + 1,
        little if little <= LITTLE_LOSS && uplinks >= WINDOW => now - 1,
        _ => now,
    };
    wanted.clamp(1, limits.max_nb_trans.max(1))
}

impl AdrDecision {
    pub(crate) const fn code(&self) -> &'static str {
        match self.verdict {
            AdrVerdict::Change => "adr_change",
            AdrVerdict::Fits => "adr_fits",
            AdrVerdict::Strained => "adr_strained",
            AdrVerdict::Lossy => "adr_lossy",
        }
    }

    /// What was decided, what was measured, and what it saves.
    pub fn why(&self) -> String {
        let (m, from, to) = (&self.measured, &self.from, &self.to);
        let decided = match self.verdict {
            AdrVerdict::Change => format!(
                "Changed from DR{}, TXPower {}, NbTrans {} to DR{}, TXPower {}, NbTrans {}",
                from.data_rate, from.tx_power, from.nb_trans, to.data_rate, to.tx_power, to.nb_trans
            ),
            AdrVerdict::Fits => format!("Data rate kept at DR{}", from.data_rate),
            AdrVerdict::Strained => {
                format!("Weak signal, and DR{} is already the slowest data rate at full power", from.data_rate)
            }
            AdrVerdict::Lossy => {
                format!("Data rate kept at DR{}, because too many uplinks are lost for a faster one", from.data_rate)
            }
        };
        let snr = match (db(m.worst_db), db(m.best_db)) {
            (worst, best) if worst == best => worst,
            (worst, best) => format!("{worst} to {best}"),
        };
        let lost = if m.lost == 0 { "none".to_owned() } else { m.lost.to_string() };
        let mut text = format!(
            "{decided}: {} uplinks at {snr} dB SNR, {lost} lost. Planned with {} dB; DR{} needs {} dB plus a {} dB margin.",
            m.uplinks,
            db(m.level_db),
            from.data_rate,
            db(self.required_snr_db),
            db(self.margin_db),
        );
        if m.moving {
            text += " The device moves, so the weakest uplink counts and power stays at its maximum.";
        }
        if self.verdict == AdrVerdict::Change {
            let ms = |us: u64| us as f64 / 1000.0;
            text += &format!(
                " Airtime of a message {:.0} → {:.0} ms, charge {:.2} → {:.2} µAh.",
                ms(self.airtime_us.0),
                ms(self.airtime_us.1),
                self.charge_uah.0,
                self.charge_uah.1,
            );
        }
        text
    }

    pub(crate) fn evidence(&self) -> Vec<(&'static str, String)> {
        let m = &self.measured;
        vec![
            ("uplinks", m.uplinks.to_string()),
            ("lost", m.lost.to_string()),
            ("planned SNR", format!("{:.1} dB", m.level_db)),
            ("SNR needed", format!("{:.1} dB", self.required_snr_db)),
            ("margin", format!("{:.1} dB", self.margin_db)),
            ("gateways", m.gateways.to_string()),
        ]
    }

    pub(crate) fn next_step(&self) -> String {
        match self.verdict {
            AdrVerdict::Strained => "Raise the antenna, or bring a gateway nearer: the network can do no more.".into(),
            AdrVerdict::Lossy => {
                "Look for interference, or for a place where the device is heard by a second gateway.".into()
            }
            AdrVerdict::Change | AdrVerdict::Fits => String::new(),
        }
    }
}

/// A level with its sign as print has it.
fn db(level: f32) -> String {
    format!("{level:.1}").replace('-', "−")
}
