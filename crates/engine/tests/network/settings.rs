//! What the network wants of devices, what they acknowledge and refuse; and decisions on data rates.

use std::sync::Arc;

use engine::*;
use lorawan::mac::{DownCommand, UpCommand, commands};
use lorawan::region::Region;
use lorawan::wire::{DataRepr, UplinkFlags};
use simulator::device::{Build, Downlink};

use crate::field::*;
use crate::world::{DEV, Joined, World, device_with, quiet};

const HILL: lorawan::Eui64 = lorawan::Eui64(0x0210_0000_0000_0001);
const ADR: UplinkFlags = UplinkFlags { adr: true, adr_ack_req: false, ack: false, class_b: false };

fn adaptive(limits: impl FnOnce(&mut AdrLimits)) -> RadioProfile {
    let mut adr = AdrLimits::of(Region::Eu868.plan());
    limits(&mut adr);
    RadioProfile { rates: Rates::Adaptive(adr), ..quiet(Region::Eu868) }
}

fn put(field: &mut Field, node: usize, profile: RadioProfile) {
    let activation = Activation::OverTheAir(RootKeys { app_key: APP_KEY, nwk_key: None });
    let dev_eui = field.nodes[node].dev_eui;
    let profile = Arc::new(profile);
    let config = DeviceConfig {
        dev_eui,
        join_eui: JOIN,
        activation,
        profile,
        policy: Policy::default(),
        estate: 0,
        fleet: 1,
        disabled: false,
    };
    field.command(Command::PutDevice(Box::new(config)));
}

#[test]
fn a_changed_profile_reaches_the_device_and_its_windows_move() {
    let mut field = Field::new(&[(HILL, Region::Eu868)]);
    let built = Build { adr: true, ..Build::plain(Region::Eu868, 3) };
    let node = field.add(built, quiet(Region::Eu868), vec![(HILL, 3.0)]);
    field.join(node);
    field.uplinks(node, 2);
    assert_eq!(field.status(node).negotiated.unwrap().under_way, Vec::<String>::new());
    let fixed = Rates::Fixed { data_rate: 4, tx_power: 1, nb_trans: 2 };
    let wanted = RadioProfile {
        rx_delay_s: 4,
        rx1_data_rate_offset: 2,
        rx2_data_rate: 3,
        rx2_frequency_hz: Some(869_450_000),
        channels: "0-4".parse().unwrap(),
        max_duty_cycle: 7,
        rates: fixed,
        ..quiet(Region::Eu868)
    };
    put(&mut field, node, wanted);
    field.forget();
    field.uplinks(node, 6);
    let negotiated = field.status(node).negotiated.unwrap();
    assert_eq!(negotiated.known, negotiated.wanted, "{:#?}", field.notices());
    assert_eq!(negotiated.known.rx2_frequency_hz, 869_450_000);
    assert_eq!(field.nodes[node].device.rate_and_power(), (4, 1));
    assert_eq!(field.nodes[node].device.nb_trans(), 2);
    assert_eq!(field.noticed("setting_taken"), 4, "{:#?}", field.notices());
    let settings = field.effects.iter().filter(|e| matches!(e, Effect::Persist(Change::Settings { .. }))).count();
    assert!(settings > 0, "what is agreed upon is kept");
    // Both windows have moved, and downlinks are still heard.
    field.enqueue(node, 1, &[1], false);
    field.uplink(node, false);
    assert_eq!(field.got(node), [[1]]);
    let first = field.transmissions().last().unwrap().window;
    field.failures = vec![TxFailure::CollisionPacket];
    field.enqueue(node, 2, &[2], false);
    field.uplink(node, false);
    assert_eq!(field.got(node), [[1], [2]], "in the other window too");
    let other = field.transmissions().last().unwrap().window;
    assert!(first != other, "{first:?}");
}

#[test]
fn extra_channels_are_given_moved_and_used() {
    let mut field = Field::new(&[(HILL, Region::Eu868)]);
    let built = Build { adr: true, ..Build::plain(Region::Eu868, 3) };
    let node = field.add(built, quiet(Region::Eu868), vec![(HILL, 3.0)]);
    field.join(node);
    field.uplinks(node, 2);
    let only_extra =
        |hz: &[u32]| RadioProfile { channels: "0".parse().unwrap(), ..quiet(Region::Eu868) }.with_extra(hz);
    put(&mut field, node, only_extra(&[869_000_000, 866_200_000]));
    field.uplinks(node, 6);
    let negotiated = field.status(node).negotiated.unwrap();
    assert_eq!(negotiated.known, negotiated.wanted, "{:#?}", field.notices());
    assert_eq!(negotiated.known.adr.channels.to_string(), "0, 8-9");
    field.forget();
    put(&mut field, node, only_extra(&[869_000_000, 864_700_000]));
    field.uplinks(node, 30);
    assert_eq!(field.noticed("setting_taken"), 1, "only the one that moved is given again: {:#?}", field.notices());
    let uplinks = field.told().into_iter().filter_map(|event| match event {
        Event::Uplink(uplink) => Some(uplink.frame.radio.frequency_hz),
        _ => None,
    });
    let mut used: Vec<u32> = uplinks.collect();
    used.sort_unstable();
    used.dedup();
    // The one that moved may have been used one more time before.
    used.retain(|hz| *hz != 866_200_000);
    assert_eq!(used, [864_700_000, 868_100_000, 869_000_000]);
    field.enqueue(node, 1, &[1], false);
    field.uplink(node, false);
    assert_eq!(field.got(node), [[1]]);
}

#[test]
fn a_limit_of_power_is_kept_by_adaptive_data_rate() {
    let mut field = Field::new(&[(HILL, Region::Eu868)]);
    let built = Build { adr: true, ..Build::plain(Region::Eu868, 0) };
    let weak = RadioProfile { max_eirp_dbm: Some(11.0), ..adaptive(|limits| limits.mobile = true) };
    let node = field.add(built, weak, vec![(HILL, -3.0)]);
    field.join(node);
    field.uplinks(node, 30);
    let (_, tx_power) = field.nodes[node].device.rate_and_power();
    assert_eq!(tx_power, 3, "10 dBm is the most of the table below 11, and a device that moves gets the most");
}

#[test]
fn a_dwell_time_is_switched_off_where_the_network_may() {
    let region = Region::As923_1;
    let mut field = Field::new(&[(HILL, region)]);
    let built = Build { adr: true, ..Build::plain(region, 2) };
    let node = field.add(built, RadioProfile { dwell_time: false, ..quiet(region) }, vec![(HILL, 5.0)]);
    field.join(node);
    field.uplinks(node, 3);
    let known = field.status(node).negotiated.unwrap().known;
    assert_eq!((known.uplink_dwell_time, known.downlink_dwell_time), (false, false), "{:#?}", field.notices());
    field.enqueue(node, 1, &[1], false);
    field.uplink(node, false);
    assert_eq!(field.got(node), [[1]]);
}

/// The engine's side alone, with a device that answers as the test wants.
struct Table {
    world: World,
    session: Joined,
}

impl Table {
    fn new(profile: RadioProfile) -> Self {
        let mut world = World::new();
        world.command(Command::PutDevice(Box::new(device_with(DEV, profile))));
        let session = world.join(1);
        Self { world, session }
    }

    /// An uplink with these commands; gives what the network asks in return.
    fn say(&mut self, said: &[UpCommand]) -> Vec<DownCommand> {
        let mut fopts = Vec::new();
        said.iter().for_each(|c| c.emit(&mut fopts));
        self.world.effects.clear();
        let repr = DataRepr::uplink(self.session.dev_addr, self.session.up, ADR, Some((2, b"x"))).with_fopts(&fopts);
        self.session.up += 1;
        let frame = repr.emit(&self.session.nwk, &self.session.app).unwrap();
        self.world.send(&frame);
        let Some(sent) = self.world.transmissions().pop() else { return Vec::new() };
        self.world.report(sent.id, Ok(()));
        self.world.pass(10 * SECOND);
        let view = lorawan::wire::DataView::new_checked(&sent.phy_payload).unwrap();
        commands(view.fopts()).map(|c| c.unwrap().command).collect()
    }

    fn negotiated(&self) -> Negotiated {
        self.world.engine.device_status(DEV, self.world.now).unwrap().negotiated.unwrap()
    }

    fn codes(&self) -> Vec<&'static str> {
        self.world.notices().iter().map(|n| n.code()).collect()
    }
}

const YES: UpCommand = UpCommand::LinkAdrAns { power_ack: true, data_rate_ack: true, channel_mask_ack: true };

#[test]
fn what_is_refused_is_not_asked_again_for_a_day_and_tried_otherwise() {
    let mut table = Table::new(adaptive(|_| {}));
    // SF7 at 8 dB from the nearest gateway: only power is left to be turned down.
    let asked = (0..10).map(|_| table.say(&[])).last().unwrap();
    let [DownCommand::LinkAdrReq(request)] = asked[..] else { panic!("{asked:?}") };
    let power = request.tx_power.unwrap();
    assert!(power > 0);
    assert_eq!(table.negotiated().under_way.len(), 1);
    let no = UpCommand::LinkAdrAns { power_ack: false, data_rate_ack: true, channel_mask_ack: true };
    let next = table.say(&[no]);
    assert!(table.codes().contains(&"setting_refused"), "{:?}", table.codes());
    let refused = &table.negotiated().refused[0];
    assert_eq!((refused.times, refused.again_at.since(refused.at)), (1, 24 * HOUR));
    // The next best is asked for at once: one step less.
    match next[..] {
        [] => assert_eq!(power, 1, "there was nothing less to ask for"),
        [DownCommand::LinkAdrReq(less)] => assert!(less.tx_power.unwrap() < power),
        _ => panic!("{next:?}"),
    }
    assert!(!table.codes().contains(&"unasked_answer"));
}

#[test]
fn an_answer_nobody_asked_for_is_an_event() {
    let mut table = Table::new(quiet(Region::Eu868));
    table.say(&[]);
    assert_eq!(table.say(&[YES]), []);
    assert_eq!(table.codes(), ["unasked_answer"]);
    assert_eq!(table.negotiated().known.adr.nb_trans, 1, "and changes nothing");
}

#[test]
fn a_silent_device_is_asked_less_and_less_often() {
    let mut table = Table::new(RadioProfile { rx_delay_s: 2, status_every_s: 0, ..quiet(Region::Eu868) });
    // The delay came with the join; now it is to be another.
    let changed = RadioProfile { rx_delay_s: 3, ..quiet(Region::Eu868) };
    table.say(&[]);
    table.world.command(Command::PutDevice(Box::new(device_with(DEV, changed))));
    let asked: Vec<usize> = (0..140).filter(|_| !table.say(&[]).is_empty()).collect();
    let gaps: Vec<usize> = asked.windows(2).map(|w| w[1] - w[0]).collect();
    assert_eq!(gaps[..6], [1, 2, 4, 8, 16, 32], "{asked:?}");
    assert_eq!(asked.len(), 8, "then it rests for a day: {asked:?}");
    let refused = &table.negotiated().refused[0];
    assert!(refused.what.contains("RXTimingSetupReq"), "{refused:?}");
    table.world.pass(25 * HOUR);
    assert_eq!(table.say(&[]).len(), 1, "and is asked again");
    table.say(&[UpCommand::RxTimingSetupAns]);
    assert_eq!(table.negotiated().known.rx_delay_s, 3);
    assert_eq!(table.negotiated().refused, []);
    // Until it hears a downlink, the device repeats this answer.
    table.say(&[UpCommand::RxTimingSetupAns]);
    assert_eq!(table.codes(), Vec::<&str>::new());
}

/// A device in EU868 at this SNR; gives data rate, power and repetitions after some uplinks.
fn settled(snr_db: f32, loss_percent: u32, limits: impl FnOnce(&mut AdrLimits)) -> (Field, (u8, u8), u8) {
    let mut field = Field::new(&[(HILL, Region::Eu868)]);
    let built = Build { adr: true, ..Build::plain(Region::Eu868, 0) };
    let node = field.add(built, adaptive(limits), vec![(HILL, snr_db)]);
    field.join(node);
    field.nodes[node].loss_percent = loss_percent;
    field.uplinks(node, 120);
    let device = &field.nodes[node].device;
    let (rate, nb_trans) = (device.rate_and_power(), device.nb_trans());
    (field, rate, nb_trans)
}

#[test]
fn the_data_rate_follows_the_signal_and_keeps_the_margin() {
    // SF12 to SF7 need -20 to -7.5 dB; 7 dB are kept, fading takes up to 1.5 dB.
    for (snr_db, expected) in [(-18.0, 0), (-12.0, 0), (-9.0, 1), (-4.0, 3), (0.0, 4), (4.0, 5)] {
        let (field, (data_rate, tx_power), _) = settled(snr_db, 0, |_| {});
        assert!(data_rate.abs_diff(expected) <= 1 && data_rate <= expected, "{snr_db} dB: DR{data_rate}");
        assert!(tx_power <= 1, "{snr_db} dB leave nothing for less power: {tx_power}");
        assert_eq!(field.refusals(), Vec::<&Refusal>::new());
    }
    let (_, (data_rate, tx_power), _) = settled(13.0, 0, |_| {});
    assert!(data_rate == 5 && tx_power >= 4, "DR{data_rate}, TXPower {tx_power}");
    let (field, ..) = settled(-19.0, 0, |_| {});
    assert!(field.noticed("adr_strained") > 0, "hardly heard, and said so: {:#?}", field.notices());
}

#[test]
fn limits_hold_and_a_moving_device_keeps_its_power() {
    let (_, rate, _) = settled(12.0, 0, |limits| (limits.max_data_rate, limits.max_tx_power) = (3, 2));
    assert_eq!(rate, (3, 2));
    let (_, (data_rate, tx_power), _) = settled(3.0, 0, |limits| limits.mobile = true);
    assert!(data_rate < 5 && tx_power == 0, "more reserve and full power: DR{data_rate}, TXPower {tx_power}");
}

#[test]
fn loss_is_met_with_repetitions() {
    let (field, _, nb_trans) = settled(10.0, 25, |_| {});
    assert!(nb_trans >= 2, "{nb_trans}: {:#?}", field.notices());
    assert!(field.noticed("uplink_repeated") > 0 && field.noticed("uplinks_lost") > 0);
    let (_, _, nb_trans) = settled(10.0, 0, |_| {});
    assert_eq!(nb_trans, 1);
}

#[test]
fn a_device_that_slows_down_by_itself_is_believed() {
    let mut table = Table::new(adaptive(|_| {}));
    table.say(&[]);
    assert_eq!(table.negotiated().known.adr.data_rate, 5);
    table.world.sf = 10;
    table.say(&[]);
    let known = table.negotiated().known;
    assert_eq!((known.adr.data_rate, known.adr.tx_power), (2, 0));
}

#[test]
fn a_device_that_decides_itself_is_left_alone() {
    let mut field = Field::new(&[(HILL, Region::Eu868)]);
    let node = field.add(Build::plain(Region::Eu868, 0), RadioProfile::of(Region::Eu868), vec![(HILL, 12.0)]);
    field.join(node);
    field.uplinks(node, 40);
    assert_eq!(field.nodes[node].device.rate_and_power(), (0, 0), "its ADR bit is off");
    let commanded = field.nodes[node].received.iter().any(|d| {
        matches!(d, Downlink::Data { mac_commands, .. } if mac_commands.iter().any(|c| matches!(c, DownCommand::LinkAdrReq(_))))
    });
    assert!(!commanded);
}
