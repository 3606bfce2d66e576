//! Obeying MAC commands.

use lorawan::mac::{Battery, DownCommand, LinkAdr, UpCommand};

use super::Device;

impl Device {
    /// Does what the commands of one downlink say, and gets the answers ready.
    pub(super) fn obey(&mut self, said: &[DownCommand]) {
        let plan = self.plan();
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
                        let (answer, after) = plan.obey_link_adr(session.defined, &session.adr, &block);
                        session.adr = after;
                        answers.extend(std::iter::repeat_n(answer, block.len()));
                        block.clear();
                    }
                }
                DownCommand::DutyCycleReq { .. } => answers.push(UpCommand::DutyCycleAns),
                DownCommand::RxParamSetupReq(rx) => {
                    let rx1_offset_ack = rx.rx1_data_rate_offset <= plan.max_rx1_offset();
                    let rx2_data_rate_ack = plan.data_rate(rx.rx2_data_rate).is_some();
                    let channel_ack = plan.sub_band(rx.rx2_frequency_hz).is_some();
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
                    let frequency_ack = free && plan.sub_band(channel.frequency_hz).is_some();
                    if frequency_ack {
                        session.define(plan, &channel);
                    }
                    answers.push(UpCommand::NewChannelAns { data_rates_ack: true, frequency_ack });
                }
                DownCommand::TxParamSetupReq(tx) if plan.dwell.by_command => {
                    session.downlink_dwell_time = tx.downlink_dwell_time;
                    answers.push(UpCommand::TxParamSetupAns);
                }
                DownCommand::DevStatusReq => {
                    answers.push(UpCommand::DevStatusAns { battery: Battery::Level(200), margin_db: 9 });
                }
                DownCommand::PingSlotChannelReq { frequency_hz, data_rate } => {
                    let data_rate_ack = plan.data_rate(data_rate).is_some();
                    let frequency_ack = frequency_hz == 0 || plan.sub_band(frequency_hz).is_some();
                    if data_rate_ack && frequency_ack {
                        session.ping_frequency_hz = Some(frequency_hz).filter(|hz| *hz > 0);
                        session.ping_data_rate = data_rate;
                    }
                    answers.push(UpCommand::PingSlotChannelAns { data_rate_ack, frequency_ack });
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
        self.repeats.extend(sticky);
        for answer in answers {
            self.ask(answer);
        }
    }
}
