//! MAC commands against bytes laid out by hand from the standard's figures, and round trips.

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

use lorawan::mac::{
    Battery, Cid, Command, DeviceClass, DownCommand, ForceRejoin, LinkAdr, MacError, NewChannel, RxParamSetup,
    TxParamSetup, UpCommand, commands,
};
use lorawan::region::ChannelMask;
use lorawan::{Direction, MacVersion};
use proptest::prelude::*;

fn up(bytes: &[u8]) -> Vec<UpCommand> {
    commands(bytes).map(|c| c.unwrap().command).collect()
}

fn down(bytes: &[u8]) -> Vec<DownCommand> {
    commands(bytes).map(|c| c.unwrap().command).collect()
}

#[test]
fn every_uplink_command() {
    let known: [(&[u8], UpCommand, &str); 20] = [
        (&[0x01, 0x01], UpCommand::ResetInd { minor: 1 }, "the device was reset; LoRaWAN 1.1"),
        (&[0x02], UpCommand::LinkCheckReq, "asks how well it is heard"),
        (
            &[0x03, 0b110],
            UpCommand::LinkAdrAns { power_ack: true, data_rate_ack: true, channel_mask_ack: false },
            "refused: channel mask",
        ),
        (&[0x04], UpCommand::DutyCycleAns, "accepted"),
        (
            &[0x05, 0b011],
            UpCommand::RxParamSetupAns { rx1_offset_ack: false, rx2_data_rate_ack: true, channel_ack: true },
            "refused: RX1DROffset",
        ),
        (
            &[0x06, 0x00, 0x3f],
            UpCommand::DevStatusAns { battery: Battery::External, margin_db: -1 },
            "external power; the request was heard with an SNR of -1 dB",
        ),
        (
            &[0x06, 254, 0x20],
            UpCommand::DevStatusAns { battery: Battery::Level(254), margin_db: -32 },
            "battery 100 %; the request was heard with an SNR of -32 dB",
        ),
        (&[0x07, 0b01], UpCommand::NewChannelAns { data_rates_ack: false, frequency_ack: true }, "refused: data rates"),
        (&[0x08], UpCommand::RxTimingSetupAns, "accepted"),
        (&[0x09], UpCommand::TxParamSetupAns, "accepted"),
        (&[0x0a, 0b11], UpCommand::DlChannelAns { uplink_exists_ack: true, frequency_ack: true }, "accepted"),
        (&[0x0b, 0x01], UpCommand::RekeyInd { minor: 1 }, "the device has new session keys; LoRaWAN 1.1"),
        (&[0x0c], UpCommand::AdrParamSetupAns, "accepted"),
        (&[0x0d], UpCommand::DeviceTimeReq, "asks for the time"),
        (&[0x0f, 0x01], UpCommand::RejoinParamSetupAns { time_ack: true }, "accepted, count and time"),
        (&[0x10, 0x04], UpCommand::PingSlotInfoReq { periodicity: 4 }, "a ping slot every 16 s"),
        (
            &[0x11, 0b00],
            UpCommand::PingSlotChannelAns { data_rate_ack: false, frequency_ack: false },
            "refused: data rate, frequency",
        ),
        (&[0x12], UpCommand::BeaconTimingReq, "asks for the next beacon"),
        (&[0x13, 0x01], UpCommand::BeaconFreqAns { frequency_ack: true }, "accepted"),
        (&[0x20, 0x02], UpCommand::DeviceModeInd { class: DeviceClass::C }, "the device is in class C"),
    ];
    for (bytes, command, words) in known {
        assert_eq!(up(bytes), [command]);
        let mut out = Vec::new();
        command.emit(&mut out);
        assert_eq!(out, bytes, "{command:?}");
        assert_eq!(command.to_string(), words);
    }
}

#[test]
fn every_downlink_command() {
    let link_adr =
        LinkAdr { data_rate: Some(5), tx_power: Some(2), channels: ChannelMask { cntl: 0, mask: 0x00ff }, nb_trans: 3 };
    let rx = RxParamSetup { rx1_data_rate_offset: 2, rx2_data_rate: 3, rx2_frequency_hz: 869_525_000 };
    let channel = NewChannel { index: 3, frequency_hz: 867_100_000, min_data_rate: 0, max_data_rate: 5 };
    let tx = TxParamSetup { downlink_dwell_time: false, uplink_dwell_time: true, max_eirp: 5 };
    let force = ForceRejoin { period: 2, max_retries: 3, rejoin_type: 2, data_rate: 4 };
    // 869 525 000 Hz is 0x84add2 hundreds of hertz, 867 100 000 Hz 0x844f18.
    let known: [(&[u8], DownCommand, &str); 22] = [
        (&[0x01, 0x01], DownCommand::ResetConf { minor: 1 }, "confirmed; the network uses LoRaWAN 1.1"),
        (
            &[0x02, 20, 3],
            DownCommand::LinkCheckAns { margin_db: 20, gateways: 3 },
            "heard 20 dB above the floor, by 3 gateways",
        ),
        (
            &[0x03, 0x52, 0xff, 0x00, 0x03],
            DownCommand::LinkAdrReq(link_adr),
            "DR5, TXPower 2, ChMaskCntl 0, ChMask 0x00ff, each uplink 3 times",
        ),
        (
            &[0x03, 0xff, 0x02, 0x00, 0x71],
            DownCommand::LinkAdrReq(LinkAdr {
                data_rate: None,
                tx_power: None,
                channels: ChannelMask { cntl: 7, mask: 2 },
                nb_trans: 1,
            }),
            "data rate unchanged, power unchanged, ChMaskCntl 7, ChMask 0x0002, each uplink once",
        ),
        (&[0x04, 0x07], DownCommand::DutyCycleReq { max_duty_cycle: 7 }, "at most 1/128 of the time (0.781 %)"),
        (&[0x05, 0x23, 0xd2, 0xad, 0x84], DownCommand::RxParamSetupReq(rx), "RX1DROffset 2, RX2 on 869.525 MHz at DR3"),
        (&[0x06], DownCommand::DevStatusReq, "asks for battery and SNR"),
        (&[0x07, 3, 0x18, 0x4f, 0x84, 0x50], DownCommand::NewChannelReq(channel), "channel 3 is 867.1 MHz, DR0 to DR5"),
        (
            &[0x07, 3, 0, 0, 0, 0x50],
            DownCommand::NewChannelReq(NewChannel { frequency_hz: 0, ..channel }),
            "removes channel 3",
        ),
        (&[0x08, 0x05], DownCommand::RxTimingSetupReq { delay_s: 5 }, "RX1 5 s after the uplink"),
        (
            &[0x09, 0x15],
            DownCommand::TxParamSetupReq(tx),
            "uplinks at most 400 ms, downlinks of any length, EIRP at most 16 dBm",
        ),
        (
            &[0x0a, 3, 0x18, 0x4f, 0x84],
            DownCommand::DlChannelReq { index: 3, frequency_hz: 867_100_000 },
            "RX1 of channel 3 is on 867.1 MHz",
        ),
        (&[0x0b, 0x01], DownCommand::RekeyConf { minor: 1 }, "confirmed; the network uses LoRaWAN 1.1"),
        (
            &[0x0c, 0x65],
            DownCommand::AdrParamSetupReq { limit_exp: 6, delay_exp: 5 },
            "ADR_ACK_LIMIT 64 uplinks, ADR_ACK_DELAY 32 uplinks",
        ),
        (
            &[0x0d, 0x12, 0x00, 0x93, 0x45, 0x80],
            DownCommand::DeviceTimeAns { gps_s: 1_167_261_714, fraction: 128 },
            "2016-12-31 23:21:37.500 UTC (GPS second 1167261714)",
        ),
        (
            &[0x0e, 0x24, 0x13],
            DownCommand::ForceRejoinReq(force),
            "send a rejoin-request of type 2 at DR4, repeat it 3 times, every 128 s",
        ),
        (
            &[0x0f, 0x21],
            DownCommand::RejoinParamSetupReq { max_time_n: 2, max_count_n: 1 },
            "a rejoin-request at least every 4096 s or 32 uplinks",
        ),
        (&[0x10], DownCommand::PingSlotInfoAns, "confirmed"),
        (
            &[0x11, 0xd2, 0xad, 0x84, 0x03],
            DownCommand::PingSlotChannelReq { frequency_hz: 869_525_000, data_rate: 3 },
            "ping slots on 869.525 MHz at DR3",
        ),
        (
            &[0x12, 0x09, 0x00, 0x02],
            DownCommand::BeaconTimingAns { delay: 9, channel: 2 },
            "the next beacon within 300 ms on channel 2",
        ),
        (&[0x13, 0, 0, 0], DownCommand::BeaconFreqReq { frequency_hz: 0 }, "the beacon is on the region's channel"),
        (&[0x20, 0x00], DownCommand::DeviceModeConf { class: DeviceClass::A }, "class A confirmed"),
    ];
    for (bytes, command, words) in known {
        assert_eq!(down(bytes), [command]);
        let mut out = Vec::new();
        command.emit(&mut out);
        assert_eq!(out, bytes, "{command:?}");
        assert_eq!(command.to_string(), words);
    }
}

#[test]
fn reserved_bits_are_ignored() {
    assert_eq!(down(&[0x08, 0xf5]), [DownCommand::RxTimingSetupReq { delay_s: 5 }]);
    assert_eq!(up(&[0x13, 0xfe]), [UpCommand::BeaconFreqAns { frequency_ack: false }]);
    assert_eq!(up(&[0x06, 1, 0xc5]), [UpCommand::DevStatusAns { battery: Battery::Level(1), margin_db: 5 }]);
}

#[test]
fn reading_ends_at_what_is_not_understood() {
    let read = |bytes: &[u8]| commands::<UpCommand>(bytes).collect::<Vec<_>>();
    let all = read(&[0x02, 0x0d, 0x42, 1, 2]);
    assert_eq!(all.len(), 3, "{all:?}");
    assert_eq!(all[1].unwrap().command, UpCommand::DeviceTimeReq);
    assert_eq!(all[2], Err(MacError::Unknown { at: 2, cid: 0x42, rest: 2 }));
    assert_eq!(read(&[0x80, 9]), [Err(MacError::Proprietary { at: 0, cid: 0x80, rest: 1 })]);
    let cut = read(&[0x02, 0x06, 0xff]);
    let truncated = MacError::Truncated { at: 1, name: "DevStatusAns", needed: 2, there: 1 };
    assert_eq!(cut[1], Err(truncated));
    assert_eq!(truncated.to_string(), "byte 1: DevStatusAns needs 2 bytes behind it, but the commands end after 1");
    assert_eq!(read(&[0x0e, 0, 0]), [Err(MacError::Unknown { at: 0, cid: 0x0e, rest: 2 })], "downlink only");
}

#[test]
fn versions_know_what_they_know() {
    let known = |version| Cid::ALL.into_iter().filter(|cid| cid.known_in(version)).count();
    assert_eq!(MacVersion::ALL.map(known), [7, 7, 9, 14, 14, 20]);
}

proptest! {
    /// Whatever reads as a command is written as bytes that read the same: nothing is lost but
    /// reserved bits.
    #[test]
    fn what_is_read_can_be_written(bytes in proptest::collection::vec(any::<u8>(), 0..=32)) {
        fn there_and_back<C: Command + PartialEq + std::fmt::Debug + Copy>(bytes: &[u8], emit: fn(&C, &mut Vec<u8>)) {
            let read: Vec<C> = commands::<C>(bytes).map_while(Result::ok).map(|placed| placed.command).collect();
            let mut written = Vec::new();
            read.iter().for_each(|command| emit(command, &mut written));
            let again: Vec<C> = commands::<C>(&written).map(|placed| placed.unwrap().command).collect();
            assert_eq!(read, again);
        }
        there_and_back(&bytes, UpCommand::emit);
        there_and_back(&bytes, DownCommand::emit);
    }

    /// Every command's length is the one the table states.
    #[test]
    fn lengths_are_the_tables(cid in prop::sample::select(Cid::ALL.to_vec()), body: [u8; 8]) {
        for direction in [Direction::Up, Direction::Down] {
            let Some(len) = cid.len(direction) else { continue };
            let bytes = [&[cid as u8][..], &body[..len]].concat();
            let mut out = Vec::new();
            match direction {
                Direction::Up => up(&bytes)[0].emit(&mut out),
                Direction::Down => down(&bytes)[0].emit(&mut out),
            }
            prop_assert_eq!(out.len(), bytes.len());
        }
    }
}
