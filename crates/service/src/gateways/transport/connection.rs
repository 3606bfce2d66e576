//! A gateway's WebSocket connection: the uplinks it can still answer, and transmissions in the protocol's form.

use std::collections::VecDeque;
use std::net::SocketAddr;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use chrono::{DateTime, Utc};
use engine::{Transmission, TransmissionId, TxFailure, When, Window};
use gateway_link::lns::{Downlink, Moment};
use lorawan::Eui64;
use lorawan::region::Plan;
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;

use crate::gateways::transport::awaited::Awaited;

/// Priority before other frames: class A devices hear nothing outside their windows.
const PRIORITY: u8 = 1;
/// Uplinks whose answer is still possible: RX2 comes 16 s later at most.
const RECENT: usize = 512;
/// A connection younger than this has just begun.
const JUST_BEGUN: Duration = Duration::from_secs(60);

/// One gateway's connection.
pub(super) struct Connection {
    pub id: u64,
    pub since: Instant,
    /// How many new connections in a row were replaced.
    pub displaced: u32,
    pub peer: SocketAddr,
    pub plan: &'static Plan,
    /// When the credential it was let in with expires.
    pub good_until: Option<DateTime<Utc>>,
    pub orders: mpsc::Sender<String>,
    pub ended: CancellationToken,
    /// Clock and antenna of the last uplinks, the latest last.
    pub recent: Mutex<VecDeque<(i64, i64)>>,
    pub awaited: Awaited<i64>,
}

impl Connection {
    /// What the connection that takes its place counts.
    pub(super) fn displaces(&self) -> u32 {
        if self.since.elapsed() < JUST_BEGUN { self.displaced + 1 } else { 0 }
    }

    /// Whether the credential it was let in with has expired.
    pub(super) fn has_expired(&self, now: DateTime<Utc>) -> bool {
        self.good_until.is_some_and(|until| until <= now)
    }

    /// Notes clock and antenna of an uplink.
    pub(super) fn heard(&self, uplink: (i64, i64)) {
        let mut recent = self.recent.lock().unwrap_or_else(PoisonError::into_inner);
        if recent.len() == RECENT {
            recent.pop_front();
        }
        recent.push_back(uplink);
    }

    /// A transmission in the protocol's form.
    pub(super) fn order(&self, transmission: &Transmission) -> Result<Downlink, TxFailure> {
        let rate = self.plan.downlink_data_rate_of(transmission.modulation);
        let data_rate = rate.ok_or_else(|| TxFailure::Refused("no data rate of its plan".into()))?;
        let frequency_hz = transmission.frequency_hz;
        let mut rctx = 0;
        let moment = match transmission.when {
            When::AtOnce => Moment::AtOnce { data_rate, frequency_hz },
            When::Gps(us) => Moment::AtGps { gpstime: us, data_rate, frequency_hz },
            When::Clock(clock_us) => {
                let second = u8::from(transmission.window == Window::Rx2);
                let recent = self.recent.lock().unwrap_or_else(PoisonError::into_inner);
                let uplink = recent.iter().rev().find_map(|(xtime, antenna)| {
                    // Windows open whole seconds after their uplink.
                    let after_us = clock_us.wrapping_sub(*xtime as u32);
                    let seconds = u8::try_from(after_us / 1_000_000).ok().filter(|_| after_us % 1_000_000 == 0)?;
                    let rx_delay_s = seconds.checked_sub(second).filter(|delay| (1..=15).contains(delay))?;
                    Some((*xtime, *antenna, rx_delay_s))
                });
                // It connected again after the uplink: its clock is another one.
                let (xtime, antenna, rx_delay_s) = uplink.ok_or(TxFailure::Unreachable)?;
                rctx = antenna;
                let channel = Some((data_rate, frequency_hz));
                let (rx1, rx2) = if second == 0 { (channel, None) } else { (None, channel) };
                Moment::AfterUplink { xtime, rx_delay_s, rx1, rx2 }
            }
        };
        let TransmissionId(id) = transmission.id;
        Ok(Downlink {
            diid: id.cast_signed(),
            // The frame says for whom it is to whom that concerns.
            dev_eui: Eui64(0),
            rctx,
            priority: PRIORITY,
            moment,
            phy_payload: transmission.phy_payload.clone(),
        })
    }
}

#[cfg(test)]
mod tests {
    use engine::Timestamp;
    use lorawan::Modulation;
    use lorawan::region::Region;

    use super::*;

    fn connection(uplinks: &[(i64, i64)]) -> Connection {
        Connection {
            id: 1,
            since: Instant::now(),
            displaced: 0,
            peer: ([127, 0, 0, 1], 1).into(),
            plan: Region::Eu868.plan(),
            good_until: None,
            orders: mpsc::channel(1).0,
            ended: CancellationToken::new(),
            recent: Mutex::new(uplinks.iter().copied().collect()),
            awaited: Awaited::default(),
        }
    }

    fn transmission(when: When, window: Window) -> Transmission {
        Transmission {
            towards: None,
            id: TransmissionId(u64::MAX),
            gateway: Eui64(1),
            when,
            at: Timestamp(0),
            window,
            frequency_hz: 868_300_000,
            modulation: Modulation::lora(12, 125).unwrap(),
            power_dbm: 14,
            airtime_us: 1,
            phy_payload: vec![0x60],
        }
    }

    #[test]
    fn a_connection_ends_with_its_credential() {
        let now = Utc::now();
        let mut connection = connection(&[]);
        assert!(!connection.has_expired(now));
        connection.good_until = Some(now);
        assert!(connection.has_expired(now) && !connection.has_expired(now - chrono::TimeDelta::seconds(1)));
    }

    #[test]
    fn an_order_finds_the_uplink_it_answers() {
        // The clock wraps between the two; the session stands above it.
        let (first, second) = ((7 << 48) | 0xffff_f000, (7 << 48) | 0x1_0000_1000);
        let connection = connection(&[(first, 0), (second, 3)]);
        let clock = |xtime: i64, seconds: u32| When::Clock((xtime as u32).wrapping_add(seconds * 1_000_000));
        let order = |when, window| connection.order(&transmission(when, window));
        let answer = order(clock(second, 1), Window::Rx1).unwrap();
        assert_eq!((answer.rctx, answer.diid), (3, -1));
        let channel = Some((0, 868_300_000));
        let after = |xtime, rx_delay_s, rx1, rx2| Moment::AfterUplink { xtime, rx_delay_s, rx1, rx2 };
        assert_eq!(answer.moment, after(second, 1, channel, None));
        assert_eq!(order(clock(first, 6), Window::Rx2).unwrap().moment, after(first, 5, None, channel));
        assert_eq!(order(clock(first, 16), Window::Rx2).unwrap().moment, after(first, 15, None, channel));
        for lost in [clock(first, 17), When::Clock(5), clock(first, 0)] {
            assert_eq!(order(lost, Window::Rx2), Err(TxFailure::Unreachable), "{lost:?}");
        }
        let at_once = Moment::AtOnce { data_rate: 0, frequency_hz: 868_300_000 };
        assert_eq!(order(When::AtOnce, Window::ClassC).unwrap().moment, at_once);
        let slot = Moment::AtGps { gpstime: 9, data_rate: 0, frequency_hz: 868_300_000 };
        assert_eq!(order(When::Gps(9), Window::PingSlot).unwrap().moment, slot);
        let odd = Transmission {
            modulation: Modulation::lora(12, 500).unwrap(),
            ..transmission(When::AtOnce, Window::ClassC)
        };
        assert!(matches!(connection.order(&odd), Err(TxFailure::Refused(_))));
    }
}
