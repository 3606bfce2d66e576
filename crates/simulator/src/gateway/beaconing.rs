//! Beacons that a gateway makes by itself, as its service told it to.

use std::time::Duration;

use gateway_link::lns::RouterConfig;
use gateway_link::udp::{TxPacket, TxTime};
use lorawan::class_b::{BEACON_PERIOD_S, Beacon, GatewaySpecific, beacon_time_s};
use lorawan::gps_time;
use tokio::time::Instant;

use crate::clock;
use coverage::geo::Place;

/// So long before it goes out a beacon is handed to the transmitter.
pub(super) const AHEAD: Duration = Duration::from_secs(1);

/// The beacon that comes next: when it is to be handed to the transmitter, and its GPS second.
#[derive(Debug, Clone, Copy)]
pub(super) struct Next {
    pub hand_over: Instant,
    pub time_s: u32,
}

/// The first beacon there is still time for.
pub(super) fn next(now: Instant) -> Next {
    let gps_us = gps_time::from_unix_us(clock::us(now + AHEAD));
    let time_s = beacon_time_s(u32::try_from(gps_us / 1_000_000).unwrap_or(0)).saturating_add(BEACON_PERIOD_S);
    let start = clock::instant(gps_time::to_unix_us(i64::from(time_s) * 1_000_000));
    Next { hand_over: start.checked_sub(AHEAD).unwrap_or(start), time_s }
}

/// The beacon of a GPS second, by a gateway that stands there; nothing if it was told of none.
///
/// Frequencies are hopped over in turn, one each period (RP002-1.0.4 §2.5.9). It begins with 10 symbols, has no
/// header, and its polarity is that of uplinks (TS001-1.1 §15.1).
pub(super) fn packet(config: &RouterConfig, time_s: u32, place: Place) -> Option<TxPacket> {
    let told = config.bcning.as_ref()?;
    let modulation = config.modulation(told.data_rate)?;
    let (spreading_factor, _) = modulation.lora_parts()?;
    let turn = (time_s / BEACON_PERIOD_S) as usize % told.freqs.len().max(1);
    let own = GatewaySpecific::at(place.latitude_deg, place.longitude_deg);
    let beacon = Beacon { param: 0, time_s, gateway: Some(own) };
    Some(TxPacket {
        when: TxTime::GpsMs(u64::from(time_s) * 1000),
        frequency_hz: *told.freqs.get(turn)?,
        rf_chain: 0,
        power_dbm: super::OWN_POWER_DBM,
        modulation,
        inverted_polarity: false,
        deviation_hz: None,
        no_crc: true,
        no_header: true,
        preamble_symbols: Some(10),
        phy_payload: beacon.emit(spreading_factor).ok()?,
    })
}

#[cfg(test)]
mod tests {
    use gateway_link::layout::Layout;
    use lorawan::Modulation;
    use lorawan::region::Region;

    use super::*;

    fn config(region: Region, beacons: bool) -> RouterConfig {
        let plan = region.plan();
        RouterConfig::new(plan, &Layout::new(plan, Layout::usual_channels(plan)).unwrap(), beacons)
    }

    const PLACE: Place = Place { latitude_deg: 54.731, longitude_deg: 3.913 };

    #[test]
    fn the_next_beacon_is_one_there_is_time_for() {
        let first = next(Instant::now());
        let start = first.hand_over + AHEAD;
        let off_us = clock::us(start) - gps_time::to_unix_us(i64::from(first.time_s) * 1_000_000);
        assert!(first.time_s.is_multiple_of(BEACON_PERIOD_S) && off_us.abs() <= 1, "{off_us}");
        let at = |before_ms: u64| next(start - Duration::from_millis(before_ms)).time_s;
        assert_eq!(at(1500), first.time_s);
        assert_eq!(at(500), first.time_s + BEACON_PERIOD_S, "it is too late for that one");
        assert_eq!(next(start).time_s, first.time_s + BEACON_PERIOD_S);
    }

    #[test]
    fn a_beacon_is_as_the_network_would_send_it() {
        let packet = packet(&config(Region::Eu868, true), 1_400_000_000 / 128 * 128, PLACE).unwrap();
        assert_eq!((packet.frequency_hz, packet.modulation), (869_525_000, Modulation::lora(9, 125).unwrap()));
        assert!(!packet.inverted_polarity && packet.no_header && packet.phy_payload.len() == 17);
        let (latitude, longitude) =
            Beacon::parse(&packet.phy_payload, 9).unwrap().gateway.unwrap().position_deg().unwrap();
        assert!((latitude - 54.731).abs() < 1e-4 && (longitude - 3.913).abs() < 1e-4);
        assert!(super::packet(&config(Region::Eu868, false), 128, PLACE).is_none(), "it was not told to");
    }

    #[test]
    fn it_hops_as_devices_expect() {
        let config = config(Region::Us915, true);
        for period in 0..20 {
            let time_s = period * BEACON_PERIOD_S;
            let expected = Region::Us915.plan().class_b_frequencies(time_s, lorawan::DevAddr(0), None).beacon_hz;
            assert_eq!(packet(&config, time_s, PLACE).unwrap().frequency_hz, expected, "period {period}");
        }
    }
}
