//! Obeying MAC commands.

use lorawan::mac::{Battery, DownCommand, LinkAdr, UpCommand};

use super::{Device, Refuses};

impl Device {
    /// Does what the commands of one downlink say, and gets the answers ready.
    pub(super) fn obey(&mut self, said: &[DownCommand]) {
        let plan = self.plan();
        let refuses = |what: Refuses| self.refuses.contains(&what);
        let Some(session) = self.session.as_mut() else { return };
        let mut answers = Vec::new();
        let mut sticky = Vec::new();
        let mut block: Vec<LinkAdr> = Vec::new();
        for (i, command) in said.iter().enumerate() {
            match *command {
                DownCommand::LinkAdrReq(adr) => {
                    block.push(adr);
                    // Requests behind each other are one block, and each is answered alike (TS001-1.0.2 §5.2).
                    if !matches!(said.get(i + 1), Some(DownCommand::LinkAdrReq(_))) {
                        let (mut answer, after) =
                            plan.obey_link_adr(session.defined, &session.adr, &block, self.build.version);
                        let mut all = false;
                        if let UpCommand::LinkAdrAns { power_ack, data_rate_ack, channel_mask_ack } = &mut answer {
                            *power_ack &= !refuses(Refuses::Power);
                            let wanted = block.last().and_then(|last| last.data_rate).unwrap_or(session.adr.data_rate);
                            *data_rate_ack &= plan.sends_at(wanted, session.uplink_dwell_time);
                            *data_rate_ack &= !refuses(Refuses::DataRate);
                            *channel_mask_ack &= !refuses(Refuses::Mask);
                            all = *power_ack && *data_rate_ack && *channel_mask_ack;
                        }
                        if all {
                            session.adr = after;
                        }
                        answers.extend(std::iter::repeat_n(answer, block.len()));
                        block.clear();
                    }
                }
                DownCommand::DutyCycleReq { .. } => answers.push(UpCommand::DutyCycleAns),
                DownCommand::RxParamSetupReq(rx) => {
                    let rx1_offset_ack = rx.rx1_data_rate_offset <= plan.max_rx1_offset();
                    let rx2_data_rate_ack = plan.data_rate(rx.rx2_data_rate).is_some();
                    let channel_ack = plan.sub_band(rx.rx2_frequency_hz).is_some() && !refuses(Refuses::Windows);
                    if rx1_offset_ack && rx2_data_rate_ack && channel_ack {
                        session.rx1_offset = rx.rx1_data_rate_offset;
                        session.rx2_data_rate = rx.rx2_data_rate;
                        session.rx2_frequency_hz = rx.rx2_frequency_hz;
                    }
                    sticky.push(UpCommand::RxParamSetupAns { rx1_offset_ack, rx2_data_rate_ack, channel_ack });
                }
                DownCommand::RxTimingSetupReq { delay_s } => {
                    session.rx_delay_s = delay_s.max(1);
                    sticky.push(UpCommand::RxTimingSetupAns);
                }
                DownCommand::NewChannelReq(channel) => {
                    let free = plan.dynamic() && channel.index < 16 && !plan.known_channels().contains(channel.index);
                    let known = plan.sub_band(channel.frequency_hz).is_some() && !refuses(Refuses::Frequency);
                    let (data_rates_ack, frequency_ack) = (!refuses(Refuses::ChannelDataRates), free && known);
                    if frequency_ack && data_rates_ack {
                        session.define(plan, &channel);
                    }
                    answers.push(UpCommand::NewChannelAns { data_rates_ack, frequency_ack });
                }
                DownCommand::TxParamSetupReq(tx) if plan.dwell.by_command => {
                    session.downlink_dwell_time = tx.downlink_dwell_time;
                    session.uplink_dwell_time = tx.uplink_dwell_time;
                    answers.push(UpCommand::TxParamSetupAns);
                }
                DownCommand::DevStatusReq => {
                    answers.push(UpCommand::DevStatusAns { battery: Battery::Level(200), margin_db: 9 });
                }
                DownCommand::PingSlotChannelReq { frequency_hz, data_rate } => {
                    let data_rate_ack = plan.data_rate(data_rate).is_some() && !refuses(Refuses::PingSlotChannel);
                    let frequency_ack = frequency_hz == 0 || plan.sub_band(frequency_hz).is_some();
                    if data_rate_ack && frequency_ack {
                        session.ping_frequency_hz = Some(frequency_hz).filter(|hz| *hz > 0);
                        session.ping_data_rate = data_rate;
                    }
                    answers.push(UpCommand::PingSlotChannelAns { data_rate_ack, frequency_ack });
                }
                DownCommand::BeaconFreqReq { frequency_hz } => {
                    let known = frequency_hz == 0 || plan.sub_band(frequency_hz).is_some();
                    answers
                        .push(UpCommand::BeaconFreqAns { frequency_ack: known && !refuses(Refuses::BeaconFrequency) });
                }
                DownCommand::DlChannelReq { index, frequency_hz } if plan.dynamic() => {
                    let uplink_exists_ack = session.defined.contains(index);
                    let frequency_ack = plan.sub_band(frequency_hz).is_some() && !refuses(Refuses::DownlinkChannel);
                    if uplink_exists_ack && frequency_ack {
                        session.move_rx1(index, frequency_hz);
                    }
                    sticky.push(UpCommand::DlChannelAns { uplink_exists_ack, frequency_ack });
                }
                DownCommand::AdrParamSetupReq { limit_exp, delay_exp } if session.speaks_1_1 => {
                    session.adr_ack = (1 << limit_exp, 1 << delay_exp);
                    answers.push(UpCommand::AdrParamSetupAns);
                }
                DownCommand::RejoinParamSetupReq { .. } if session.speaks_1_1 => {
                    answers.push(UpCommand::RejoinParamSetupAns { time_ack: !refuses(Refuses::RejoinTime) });
                }
                DownCommand::ForceRejoinReq(force) if session.speaks_1_1 => {
                    self.to_rejoin = Some(force.rejoin_type);
                }
                DownCommand::RekeyConf { .. } => {
                    self.repeats.retain(|c| !matches!(c, UpCommand::RekeyInd { .. }));
                }
                DownCommand::ResetConf { .. } => {
                    self.repeats.retain(|c| !matches!(c, UpCommand::ResetInd { .. }));
                }
                // Nothing to answer, or nothing this device knows.
                _ => {}
            }
        }
        if refuses(Refuses::ToAnswer) {
            return;
        }
        self.repeats.extend(sticky);
        for answer in answers {
            self.ask(answer);
        }
    }
}
