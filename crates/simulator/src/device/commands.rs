//! Obeying MAC commands.

use lorawan::MacVersion;
use lorawan::mac::{DownCommand, LinkAdr, NewChannel, RxParamSetup, TxParamSetup, UpCommand};
use lorawan::region::Plan;

use super::{Device, Refuses, Session};

/// Answers that are repeated until a downlink comes (TS001 §5.4, §5.6.2, §5.7).
fn repeated(answer: &UpCommand) -> bool {
    matches!(answer, UpCommand::RxParamSetupAns { .. } | UpCommand::RxTimingSetupAns | UpCommand::DlChannelAns { .. })
}

impl Device {
    /// Does what the commands of one downlink say, and gets the answers ready.
    pub(super) fn obey(&mut self, said: &[DownCommand]) {
        let (plan, version) = (self.plan(), self.build.version);
        let Some(session) = self.session.as_mut() else { return };
        let speaks_1_1 = session.speaks_1_1;
        let status = UpCommand::DevStatusAns { battery: self.battery, margin_db: self.snr_db };
        let mut obedience = Obedience { plan, version, refuses: &self.refuses, status, session };
        let answers = obedience.answers(said);
        for command in said {
            match command {
                DownCommand::ForceRejoinReq(force) if speaks_1_1 => self.to_rejoin = Some(force.rejoin_type),
                DownCommand::RekeyConf { .. } => self.repeats.retain(|c| !matches!(c, UpCommand::RekeyInd { .. })),
                DownCommand::ResetConf { .. } => self.repeats.retain(|c| !matches!(c, UpCommand::ResetInd { .. })),
                _ => {}
            }
        }
        if self.refuses.contains(&Refuses::ToAnswer) {
            return;
        }
        let (repeated, once): (Vec<_>, Vec<_>) = answers.into_iter().partition(repeated);
        self.repeats.extend(repeated);
        for answer in once {
            self.ask(answer);
        }
    }
}

/// A session that obeys commands, but for what the device refuses.
struct Obedience<'a> {
    plan: &'static Plan,
    version: MacVersion,
    refuses: &'a [Refuses],
    /// Its answer to DevStatusReq.
    status: UpCommand,
    session: &'a mut Session,
}

impl Obedience<'_> {
    fn takes(&self, what: Refuses) -> bool {
        !self.refuses.contains(&what)
    }

    fn answers(&mut self, said: &[DownCommand]) -> Vec<UpCommand> {
        let mut answers = Vec::new();
        let mut rest = said;
        while let Some((first, after)) = rest.split_first() {
            let adr = |command: &DownCommand| match command {
                DownCommand::LinkAdrReq(adr) => Some(*adr),
                _ => None,
            };
            let block: Vec<LinkAdr> = rest.iter().map_while(adr).collect();
            if block.is_empty() {
                answers.extend(self.answer(first));
                rest = after;
            } else {
                // Requests behind each other are one block, and each is answered alike (TS001-1.0.2 §5.2).
                answers.extend(std::iter::repeat_n(self.link_adr(&block), block.len()));
                rest = &rest[block.len()..];
            }
        }
        answers
    }

    /// None if there is nothing to answer, or if the device does not know the command.
    fn answer(&mut self, command: &DownCommand) -> Option<UpCommand> {
        let answer = match *command {
            DownCommand::DutyCycleReq { .. } => UpCommand::DutyCycleAns,
            DownCommand::RxParamSetupReq(rx) => self.rx_param_setup(rx),
            DownCommand::RxTimingSetupReq { delay_s } => {
                self.session.rx_delay_s = delay_s.max(1);
                UpCommand::RxTimingSetupAns
            }
            DownCommand::NewChannelReq(channel) => self.new_channel(&channel),
            DownCommand::TxParamSetupReq(tx) if self.plan.dwell.by_command => self.tx_param_setup(tx),
            DownCommand::DevStatusReq => self.status,
            DownCommand::PingSlotChannelReq { frequency_hz, data_rate } => {
                self.ping_slot_channel(frequency_hz, data_rate)
            }
            DownCommand::BeaconFreqReq { frequency_hz } => {
                let known = frequency_hz == 0 || self.plan.sub_band(frequency_hz).is_some();
                UpCommand::BeaconFreqAns { frequency_ack: known && self.takes(Refuses::BeaconFrequency) }
            }
            DownCommand::DlChannelReq { index, frequency_hz } if self.plan.dynamic() => {
                self.dl_channel(index, frequency_hz)
            }
            DownCommand::AdrParamSetupReq { limit_exp, delay_exp } if self.session.speaks_1_1 => {
                self.session.adr_ack = (1 << limit_exp, 1 << delay_exp);
                UpCommand::AdrParamSetupAns
            }
            DownCommand::RejoinParamSetupReq { .. } if self.session.speaks_1_1 => {
                UpCommand::RejoinParamSetupAns { time_ack: self.takes(Refuses::RejoinTime) }
            }
            _ => return None,
        };
        Some(answer)
    }

    fn link_adr(&mut self, block: &[LinkAdr]) -> UpCommand {
        let (plan, current) = (self.plan, self.session.adr);
        let (mut answer, after) = plan.obey_link_adr(self.session.defined, &current, block, self.version);
        if let UpCommand::LinkAdrAns { power_ack, data_rate_ack, channel_mask_ack } = &mut answer {
            let wanted = block.last().and_then(|last| last.data_rate).unwrap_or(current.data_rate);
            *power_ack &= self.takes(Refuses::Power);
            *data_rate_ack &= plan.sends_at(wanted, self.session.uplink_dwell_time) && self.takes(Refuses::DataRate);
            *channel_mask_ack &= self.takes(Refuses::Mask);
            if *power_ack && *data_rate_ack && *channel_mask_ack {
                self.session.adr = after;
            }
        }
        answer
    }

    fn rx_param_setup(&mut self, rx: RxParamSetup) -> UpCommand {
        let rx1_offset_ack = rx.rx1_data_rate_offset <= self.plan.max_rx1_offset();
        let rx2_data_rate_ack = self.plan.data_rate(rx.rx2_data_rate).is_some();
        let channel_ack = self.plan.sub_band(rx.rx2_frequency_hz).is_some() && self.takes(Refuses::Windows);
        if rx1_offset_ack && rx2_data_rate_ack && channel_ack {
            self.session.rx1_offset = rx.rx1_data_rate_offset;
            self.session.rx2_data_rate = rx.rx2_data_rate;
            self.session.rx2_frequency_hz = rx.rx2_frequency_hz;
        }
        UpCommand::RxParamSetupAns { rx1_offset_ack, rx2_data_rate_ack, channel_ack }
    }

    fn new_channel(&mut self, channel: &NewChannel) -> UpCommand {
        let plan = self.plan;
        let free = plan.dynamic() && channel.index < 16 && !plan.known_channels().contains(channel.index);
        let known = plan.sub_band(channel.frequency_hz).is_some() && self.takes(Refuses::Frequency);
        let (data_rates_ack, frequency_ack) = (self.takes(Refuses::ChannelDataRates), free && known);
        if frequency_ack && data_rates_ack {
            self.session.define(plan, channel);
        }
        UpCommand::NewChannelAns { data_rates_ack, frequency_ack }
    }

    fn tx_param_setup(&mut self, tx: TxParamSetup) -> UpCommand {
        self.session.downlink_dwell_time = tx.downlink_dwell_time;
        self.session.uplink_dwell_time = tx.uplink_dwell_time;
        UpCommand::TxParamSetupAns
    }

    fn ping_slot_channel(&mut self, frequency_hz: u32, data_rate: u8) -> UpCommand {
        let data_rate_ack = self.plan.data_rate(data_rate).is_some() && self.takes(Refuses::PingSlotChannel);
        let frequency_ack = frequency_hz == 0 || self.plan.sub_band(frequency_hz).is_some();
        if data_rate_ack && frequency_ack {
            self.session.ping_frequency_hz = Some(frequency_hz).filter(|hz| *hz > 0);
            self.session.ping_data_rate = data_rate;
        }
        UpCommand::PingSlotChannelAns { data_rate_ack, frequency_ack }
    }

    fn dl_channel(&mut self, index: u8, frequency_hz: u32) -> UpCommand {
        let uplink_exists_ack = self.session.defined.contains(index);
        let frequency_ack = self.plan.sub_band(frequency_hz).is_some() && self.takes(Refuses::DownlinkChannel);
        if uplink_exists_ack && frequency_ack {
            self.session.move_rx1(index, frequency_hz);
        }
        UpCommand::DlChannelAns { uplink_exists_ack, frequency_ack }
    }
}
