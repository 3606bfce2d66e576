//! The tables of a region: channels, data rates, windows, sub-bands.

use api::calculator::region::{
    BlockInfo, ChannelInfo, ClassBInfo, DataRateInfo, DwellInfo, JoinInfo, RegionDetail, RegionSummary, Rx1Row,
    SubBandInfo,
};
use lorawan::limits::usual_sensitivity_dbm;
use lorawan::modulation::{LrFhssCodingRate, Modulation};
use lorawan::region::{
    CfListForm, Channel, DataRate, MaskMeaning, PayloadLimits, Plan, PowerReference, Region, Rx1Channel, Use,
};

/// Every region in one line.
pub fn summaries() -> Vec<RegionSummary> {
    Region::ALL.into_iter().map(|region| summary(region.plan())).collect()
}

fn summary(plan: &Plan) -> RegionSummary {
    RegionSummary {
        name: plan.region,
        title: plan.title.into(),
        from_mhz: mhz(plan.band_hz.0),
        to_mhz: mhz(plan.band_hz.1),
        channels: plan.uplinks().count(),
        dynamic: plan.dynamic(),
        max_power_dbm: plan.tx_power.max_dbm,
    }
}

/// Everything a region's table says.
pub fn detail(region: Region) -> RegionDetail {
    let plan = region.plan();
    let known = plan.uplinks().count();
    let rows = |table: &[&[u8]]| -> Vec<Rx1Row> {
        let rows = table.iter().zip(0u8..).filter(|(row, _)| !row.is_empty());
        rows.map(|(row, uplink)| Rx1Row { uplink, rx1: row.to_vec() }).collect()
    };
    let hops = |block: lorawan::region::Block| block.channels().map(|c| mhz(c.frequency_hz)).collect();
    RegionDetail {
        summary: summary(plan),
        source: plan.source.into(),
        uplinks: plan.network_uplinks().enumerate().map(|(i, c)| channel(plan, c, i >= known)).collect(),
        downlinks: plan.downlinks().map(|c| channel(plan, c, false)).collect(),
        blocks: (0..8)
            .filter_map(|block| {
                let channels = plan.eight_channels(block)?;
                let narrow = |index: u8| plan.uplinks().find(|c| c.index == index).map(|c| mhz(c.frequency_hz));
                Some(BlockInfo {
                    number: block + 1,
                    channels: channels.to_string(),
                    from_mhz: narrow(8 * block)?,
                    to_mhz: narrow(8 * block + 7)?,
                    mask: 1 << block,
                })
            })
            .collect(),
        joins: plan
            .join_channels()
            .map(|j| JoinInfo {
                index: j.index,
                frequency_mhz: mhz(j.frequency_hz),
                min_data_rate: j.min_data_rate,
                max_data_rate: j.max_data_rate,
                rx1_mhz: mhz(j.rx1_frequency_hz),
                rx2_mhz: mhz(j.rx2_frequency_hz),
            })
            .collect(),
        data_rates: plan.data_rates().map(|(index, rate)| data_rate(plan, index, rate)).collect(),
        rx1_channel: match plan.rx1_channel {
            Rx1Channel::Same => "the uplink's frequency, unless DlChannelReq has moved it".into(),
            Rx1Channel::SameIndex => "the downlink channel with the uplink channel's index".into(),
            Rx1Channel::Modulo(n) => format!("the downlink channel whose index is the uplink channel's modulo {n}"),
        },
        rx1_data_rates: rows(plan.rx1_data_rate),
        rx1_data_rates_dwell: plan.rx1_data_rate_dwell.map(rows),
        rx2_mhz: mhz(plan.rx2_frequency_hz),
        rx2_data_rate: plan.rx2_data_rate,
        rx2_bandwidth_khz: bandwidth_khz(plan, plan.rx2_data_rate),
        tx_power_dbm: (0..=plan.tx_power.highest).filter_map(|index| plan.tx_power.dbm(index)).collect(),
        tx_power_reference: match plan.tx_power.reference {
            PowerReference::Eirp => "EIRP".into(),
            PowerReference::Conducted => "conducted".into(),
        },
        cf_list: match plan.cf_list {
            CfListForm::Frequencies => "type 0: the frequencies of five more channels".into(),
            CfListForm::Masks(groups) => format!("type 1: {groups} masks of 16 channels"),
        },
        ch_mask_cntl: plan.ch_mask_cntl.into_iter().map(mask_meaning).collect(),
        dwell: DwellInfo {
            uplink_ms: plan.dwell.uplink_ms,
            downlink_ms: plan.dwell.downlink_ms,
            by_command: plan.dwell.by_command,
            source: plan.dwell.source.into(),
        },
        class_b: ClassBInfo {
            beacon_mhz: hops(plan.class_b.beacon),
            beacon_data_rate: plan.class_b.beacon.min_data_rate,
            bandwidth_khz: bandwidth_khz(plan, plan.class_b.beacon.min_data_rate),
            ping_slot_mhz: hops(plan.class_b.ping_slot),
            ping_slot_data_rate: plan.class_b.ping_slot.min_data_rate,
        },
        sub_bands: plan
            .sub_bands
            .iter()
            .map(|s| SubBandInfo {
                name: s.name.into(),
                from_mhz: mhz(s.from_hz),
                to_mhz: mhz(s.to_hz),
                duty_cycle_percent: s.duty_cycle_ppm.map(|ppm| f64::from(ppm) / 1e4),
                max_eirp_dbm: s.max_eirp_dbm,
                gateway_eirp_dbm: s.gateway_eirp_dbm,
                source: s.source.into(),
            })
            .collect(),
        notes: plan.notes.iter().map(|note| (*note).into()).collect(),
    }
}

/// The width of a data rate; LoRa's usual one where it is not LoRa.
fn bandwidth_khz(plan: &Plan, data_rate: u8) -> u32 {
    plan.data_rate(data_rate).and_then(|rate| rate.modulation.lora_parts()).map_or(125, |(_, khz)| khz)
}

fn channel(plan: &Plan, c: Channel, added: bool) -> ChannelInfo {
    ChannelInfo {
        index: c.index,
        frequency_mhz: mhz(c.frequency_hz),
        bandwidth_khz: bandwidth_khz(plan, c.min_data_rate),
        min_data_rate: c.min_data_rate,
        max_data_rate: c.max_data_rate,
        sub_band: plan.sub_band(c.frequency_hz).map(|s| s.name.into()),
        added,
    }
}

fn data_rate(plan: &Plan, index: u8, rate: &DataRate) -> DataRateInfo {
    let payload = |repeater, dwell_time| plan.max_payload(index, PayloadLimits { repeater, dwell_time });
    let bit_rate_bps = match rate.modulation {
        Modulation::Lora { spreading_factor, bandwidth } => {
            // SF bits a symbol of 2^SF chips, four of five of them payload; rounded.
            let sf = u32::from(spreading_factor.value());
            (sf * bandwidth.hz() * 4 + (5 << (sf - 1))) / (5 << sf)
        }
        Modulation::Fsk { bit_rate_bps } => bit_rate_bps,
        Modulation::LrFhss { coding_rate: LrFhssCodingRate::OneThird, .. } => 162,
        Modulation::LrFhss { coding_rate: LrFhssCodingRate::TwoThirds, .. } => 325,
    };
    DataRateInfo {
        index,
        modulation: rate.modulation.to_string(),
        direction: match rate.direction {
            Use::Both => "both",
            Use::Up => "up",
            Use::Down => "down",
        }
        .into(),
        bit_rate_bps,
        max_payload: payload(false, false),
        max_payload_repeater: payload(true, false),
        max_payload_dwell: payload(false, true),
        max_payload_dwell_repeater: payload(true, true),
        required_snr_db: rate.modulation.required_snr_db(),
        sensitivity_dbm: usual_sensitivity_dbm(rate.modulation),
    }
}

fn mask_meaning(meaning: MaskMeaning) -> String {
    match meaning {
        MaskMeaning::Sixteen(first) => format!("ChMask switches channels {first} to {}", first + 15),
        MaskMeaning::Wide => "the low 8 bits switch channels 64 to 71".into(),
        MaskMeaning::Blocks => {
            "each of the low 8 bits switches eight 125 kHz channels and their 500 kHz channel".into()
        }
        MaskMeaning::NarrowOnAndWide => "all 125 kHz channels on; the low 8 bits switch channels 64 to 71".into(),
        MaskMeaning::NarrowOffAndWide => "all 125 kHz channels off; the low 8 bits switch channels 64 to 71".into(),
        MaskMeaning::AllOn => "all defined channels on".into(),
        MaskMeaning::AllOff => "all channels off".into(),
        MaskMeaning::Reserved => "reserved".into(),
    }
}

fn mhz(hz: u32) -> f64 {
    f64::from(hz) / 1e6
}
