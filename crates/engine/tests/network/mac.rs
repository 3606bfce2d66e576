//! MAC commands: what a device asks for is answered in the next downlink, and first.

use engine::*;
use lorawan::crypto::PayloadKey;
use lorawan::mac::{DownCommand, UpCommand, commands};
use lorawan::wire::{DataRepr, UplinkFlags};
use lorawan::{AesKey, gps_time};

use crate::world::*;

fn asking(session: &mut Joined, fopts: &[u8], payload: Option<(u8, &[u8])>) -> Vec<u8> {
    let repr = DataRepr::uplink(session.dev_addr, session.up, UplinkFlags::default(), payload).with_fopts(fopts);
    session.up += 1;
    repr.emit(&session.nwk, &session.app).unwrap()
}

fn answers(world: &World, session: &Joined, counter: u32) -> Vec<DownCommand> {
    let sent = world.transmission();
    let (view, _) = session.read(&sent.phy_payload, counter);
    commands(view.fopts()).map(|c| c.unwrap().command).collect()
}

#[test]
fn link_check_and_time_are_answered_at_once() {
    let mut world = World::new();
    let mut session = world.join(1);
    let heard_at = world.now;
    world.send(&asking(&mut session, &[0x02, 0x0d], Some((2, b"x"))));
    let gps_us = gps_time::from_unix_us(heard_at.0);
    let expected = [
        // A fifth of a second past: 51/256. Heard best at 8 dB; SF7 needs -7.5 dB. Two gateways heard it.
        DownCommand::LinkCheckAns { margin_db: 15, gateways: 2 },
        DownCommand::DeviceTimeAns { gps_s: (gps_us / SECOND) as u32, fraction: 51 },
    ];
    assert_eq!(answers(&world, &session, 0), expected);
    assert_eq!(world.uplinks()[0].mac_commands, [0x02, 0x0d]);
    assert!(world.uplinks()[0].warnings.is_empty());
}

#[test]
fn on_port_0_as_well_and_each_question_once() {
    let mut world = World::new();
    let mut session = world.join(1);
    let clear = [0x02, 0x02, 0x02, 0x0d, 0x02];
    // FPort 0 is encrypted with the NwkSKey.
    let status = world.engine.device_status(DEV, world.now).unwrap();
    let nwk: AesKey = status.session.or(status.next_session).unwrap().keys.nwk_s_enc_key;
    let frame = DataRepr::uplink(session.dev_addr, 0, UplinkFlags::default(), Some((0, &clear)))
        .emit(&session.nwk, &PayloadKey::new(&nwk))
        .unwrap();
    session.up = 1;
    world.send(&frame);
    assert_eq!(answers(&world, &session, 0).len(), 2);
    assert_eq!(world.uplinks()[0].mac_commands, clear);
}

#[test]
fn what_cannot_be_read_is_said_and_the_rest_answered() {
    let mut world = World::new();
    let mut session = world.join(1);
    world.send(&asking(&mut session, &[0x02, 0x99, 0x02], None));
    assert_eq!(answers(&world, &session, 0).len(), 1);
    let warnings = &world.uplinks()[0].warnings;
    assert_eq!(warnings[0], "in its MAC commands, byte 1: 0x99 is proprietary; 1 bytes behind it cannot be read");
    world.effects.clear();
    let mut out = Vec::new();
    UpCommand::LinkAdrAns { power_ack: true, data_rate_ack: true, channel_mask_ack: true }.emit(&mut out);
    world.send(&asking(&mut session, &out, None));
    assert!(world.transmissions().is_empty(), "an answer is not answered");
}

#[test]
fn answers_get_room_before_payloads() {
    let mut world = World::new();
    let mut session = world.join(1);
    // SF12 in both windows: 51 bytes, of which the answers take 9.
    world.sf = 12;
    world.enqueue(1, &[7; 45], false);
    world.send(&asking(&mut session, &[0x02, 0x0d], None));
    let sent = world.transmission();
    assert_eq!(answers(&world, &session, 0).len(), 2);
    assert_eq!(session.read(&sent.phy_payload, 0).0.fport(), None, "the payload waits");
    assert_eq!(world.outbox_states(), [&OutboxState::Waiting(Wait::SmallerThan { len: 45, max: 42 })]);
    world.report(sent.id, Ok(()));
    world.pass(10 * SECOND);
    world.effects.clear();
    world.send(&session.plain());
    let (_, payload) = session.read(&world.transmission().phy_payload.clone(), 1);
    assert_eq!(payload, [7; 45], "and goes as soon as there is room");
}

#[test]
fn an_answer_that_cannot_be_sent_is_told() {
    let mut world = World::new();
    let mut session = world.join(1);
    let minute = world.now.0 / (60 * SECOND);
    for transmitter in [NEAR, FAR].map(Transmitter::Gateway) {
        for band in ["M", "P"] {
            let sub_band = band.into();
            world.command(Command::RestoreAirtime {
                transmitter,
                sub_band,
                minute,
                used: Used { airtime_us: 360_000_000, frames: 9 },
            });
        }
    }
    world.effects.clear();
    world.send(&asking(&mut session, &[0x02], None));
    let stages = world.stages();
    assert!(
        matches!(stages[..], [DownlinkStage::Failed(why)] if why.starts_with("no answer to its MAC commands could be sent")),
        "{stages:?}"
    );
}
