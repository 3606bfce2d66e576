//! What a message costs in airtime at each data rate of a region, and how often it may be sent.

use api::calculator::airtime::{AirtimeQuestion, AirtimeRow, AirtimeTable};
use api::problem::Problem;
use lorawan::limits::{AirtimeLimit, DAY_US, duty_cycle, largest_phy_payload, usual_sensitivity_dbm};
use lorawan::region::{PayloadLimits, Plan, Region, Use};
use lorawan::{Direction, Modulation, airtime};

use crate::input;

/// MHDR, FHDR without FOpts, FPort and MIC: a frame's bytes besides its payload.
const AROUND: usize = 13;

/// Computes the table.
///
/// # Errors
/// A problem that names the field.
pub fn table(region: Region, question: &AirtimeQuestion) -> Result<AirtimeTable, Problem> {
    let count = |field, value: u32, from: u32, to: u32, unit| {
        input::range(field, f64::from(value), f64::from(from), f64::from(to), unit).map(|_| value)
    };
    let payload = count("payload_bytes", question.payload_bytes, 0, 242, "bytes")? as usize;
    let fopts = count("fopts_bytes", question.fopts_bytes.unwrap_or(0), 0, 15, "bytes")? as usize;
    let times = count("times", question.times.unwrap_or(1), 1, 15, "times")?;
    if let Some(interval) = question.interval_s {
        input::range("interval_s", interval, 0.001, 31_536_000.0, "seconds")?;
    }
    if let Some(daily) = question.daily_airtime_s {
        input::range("daily_airtime_s", daily, 0.001, 86_400.0, "seconds")?;
    }
    let plan = region.plan();
    let dwell_off = question.dwell_off && plan.dwell.by_command;
    let dwell_ms = plan.dwell.uplink_ms.filter(|_| !dwell_off);
    let limits = PayloadLimits { repeater: question.repeater, dwell_time: dwell_ms.is_some() };
    let message = Message {
        plan,
        limits,
        payload,
        fopts,
        times: u64::from(times),
        interval_us: question.interval_s.map(|s| (s * 1e6) as u64),
        daily_airtime_s: question.daily_airtime_s,
    };
    let rows = plan
        .data_rates()
        .filter(|(_, rate)| rate.direction != Use::Down)
        .map(|(index, rate)| message.row(index, rate.modulation))
        .collect();
    Ok(AirtimeTable {
        region,
        payload_bytes: payload,
        phy_payload_bytes: AROUND + fopts + payload,
        interval_s: question.interval_s,
        daily_airtime_s: question.daily_airtime_s,
        times,
        dwell_ms,
        dwell_by_command: plan.dwell.by_command,
        rows,
    })
}

/// A message whose cost is computed.
struct Message {
    plan: &'static Plan,
    limits: PayloadLimits,
    payload: usize,
    fopts: usize,
    times: u64,
    interval_us: Option<u64>,
    daily_airtime_s: Option<f64>,
}

impl Message {
    fn row(&self, data_rate: u8, modulation: Modulation) -> AirtimeRow {
        let max_payload_bytes = self.plan.max_payload(data_rate, self.limits).map(|max| max.saturating_sub(self.fopts));
        let frame_us = airtime::uplink_us(modulation, AROUND + self.fopts + self.payload);
        let airtime_us = frame_us * self.times;
        let tightest = tightest(self.plan, data_rate);
        let allowed = allowances(tightest.map(|(ppm, _)| ppm), self.daily_airtime_s);
        let shortest = allowed.iter().filter_map(|limit| limit.shortest_interval_us(airtime_us)).max();
        let duty = self.interval_us.map(|us| duty_cycle(airtime_us, us));
        AirtimeRow {
            data_rate,
            modulation: modulation.to_string(),
            max_payload_bytes,
            fits: max_payload_bytes.is_some_and(|max| self.payload <= max),
            airtime_ms: frame_us as f64 / 1e3,
            limit_percent: tightest.map(|(ppm, _)| f64::from(ppm) / 1e4),
            sub_band: tightest.map(|(_, name)| name.to_owned()),
            duty_cycle_percent: duty.map(|share| share * 100.0),
            airtime_s_a_day: duty.map(|share| share * DAY_US as f64 / 1e6),
            shortest_interval_s: shortest.map(|us| us as f64 / 1e6),
            messages_a_day: allowed.iter().map(|limit| limit.frames_a_day(airtime_us)).min(),
            largest_payload_bytes: self.interval_us.zip(max_payload_bytes).and_then(|(us, max)| {
                let budget = allowed.iter().map(|limit| limit.airtime_us_in(us)).min().unwrap_or(us);
                let largest = largest_phy_payload(modulation, Direction::Up, budget / self.times)?;
                Some(largest.checked_sub(AROUND + self.fopts)?.min(max))
            }),
            // Frames of one device cannot follow each other faster than they last.
            keeps_limits: self.interval_us.map(|us| us >= shortest.unwrap_or(airtime_us)),
            sensitivity_dbm: usual_sensitivity_dbm(modulation),
        }
    }
}

/// The tightest duty cycle among the channels that a device may use at a data rate, and its sub-band.
fn tightest(plan: &Plan, data_rate: u8) -> Option<(u32, &'static str)> {
    let carrying = plan.network_uplinks().filter(|c| c.carries(data_rate));
    let all = plan.network_uplinks().filter(|_| plan.dynamic());
    // DR6 and above are on no default channel of a dynamic plan; a network puts them on one of its own.
    let frequencies: Vec<u32> = carrying.map(|c| c.frequency_hz).collect();
    let frequencies = if frequencies.is_empty() { all.map(|c| c.frequency_hz).collect() } else { frequencies };
    let bands = frequencies.into_iter().filter_map(|hz| plan.sub_band(hz));
    bands.filter_map(|band| Some((band.duty_cycle_ppm?, band.name))).min_by_key(|(ppm, _)| *ppm)
}

fn allowances(ppm: Option<u32>, daily_airtime_s: Option<f64>) -> Vec<AirtimeLimit> {
    let share = ppm.map(|ppm| AirtimeLimit::Share { ppm });
    share.into_iter().chain(daily_airtime_s.map(|s| AirtimeLimit::Daily { us: (s * 1e6) as u64 })).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_message_side_by_side() {
        let question = AirtimeQuestion {
            payload_bytes: 13,
            interval_s: Some(60.0),
            daily_airtime_s: Some(30.0),
            ..AirtimeQuestion::default()
        };
        let table = table(Region::Eu868, &question).unwrap();
        assert_eq!((table.phy_payload_bytes, table.rows.len()), (26, 12));
        let dr5 = &table.rows[5];
        assert_eq!((dr5.airtime_ms, dr5.limit_percent, dr5.fits), (61.696, Some(1.0), true));
        assert_eq!(dr5.messages_a_day, Some(486), "30 s / 61.696 ms, tighter than 1 %");
        assert_eq!(dr5.keeps_limits, Some(false), "60 s are less than 86 400 / 486");
        // 30 s a day leave 20.8 ms in 60 s, less than the 25.9 ms of an empty frame at SF7.
        assert_eq!(dr5.largest_payload_bytes, None);
        let slower = AirtimeQuestion { interval_s: Some(200.0), ..question };
        let slower = super::table(Region::Eu868, &slower).unwrap();
        // 69.4 ms at SF7/125: 27 to 29 bytes take 66.8 ms, 30 take 71.9 ms; 13 of them go round.
        assert_eq!(slower.rows[5].largest_payload_bytes, Some(16));
        let dr0 = &table.rows[0];
        assert!(dr0.duty_cycle_percent.unwrap() > 2.0 && dr0.keeps_limits == Some(false));
    }

    #[test]
    fn a_region_without_duty_cycle_limits_by_dwell_time() {
        let question = AirtimeQuestion { payload_bytes: 20, interval_s: Some(1.0), ..AirtimeQuestion::default() };
        let table = table(Region::Us915, &question).unwrap();
        assert_eq!(table.dwell_ms, Some(400));
        let dr0 = &table.rows[0];
        assert_eq!((dr0.max_payload_bytes, dr0.fits, dr0.messages_a_day), (Some(11), false, None));
        assert_eq!(table.rows.len(), 7, "uplinks only");
    }

    #[test]
    fn wrong_questions_name_the_field() {
        let bad = AirtimeQuestion { payload_bytes: 243, ..AirtimeQuestion::default() };
        assert_eq!(table(Region::Eu868, &bad).unwrap_err().field.as_deref(), Some("payload_bytes"));
        let bad = AirtimeQuestion { interval_s: Some(f64::NAN), ..AirtimeQuestion::default() };
        assert_eq!(table(Region::Eu868, &bad).unwrap_err().field.as_deref(), Some("interval_s"));
        let bad = AirtimeQuestion { times: Some(0), ..AirtimeQuestion::default() };
        assert_eq!(table(Region::Eu868, &bad).unwrap_err().field.as_deref(), Some("times"));
    }
}
