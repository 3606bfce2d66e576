//! Channel masks: what each ChMaskCntl means, and that no shorter block of LinkADRReq would do.

#![allow(clippy::unwrap_used)] // a test program: a failed unwrap is a failed test

use std::collections::HashSet;

use lorawan::region::{ChannelMask, ChannelSet, MaskError, Plan, Region};
use proptest::prelude::*;

fn set(indices: impl IntoIterator<Item = u8>) -> ChannelSet {
    indices.into_iter().collect()
}

fn mask(cntl: u8, mask: u16) -> ChannelMask {
    ChannelMask { cntl, mask }
}

#[test]
fn every_ch_mask_cntl_of_the_fixed_plans() {
    for region in [Region::Us915, Region::Au915] {
        let plan = region.plan();
        let defined = plan.known_channels();
        let after = |step| plan.apply_masks(defined, defined, &[step]).map(|s| s.to_string());
        assert_eq!(after(mask(0, 0x00ff)).unwrap(), "0-7, 16-71");
        assert_eq!(after(mask(1, 0)).unwrap(), "0-15, 32-71");
        assert_eq!(after(mask(2, 1)).unwrap(), "0-32, 48-71");
        assert_eq!(after(mask(3, 0x8000)).unwrap(), "0-47, 63-71");
        assert_eq!(after(mask(4, 0xff02)).unwrap(), "0-63, 65", "the upper half is reserved");
        assert_eq!(after(mask(5, 0x0003)).unwrap(), "0-15, 64-65");
        assert_eq!(after(mask(6, 0x0001)).unwrap(), "0-64");
        assert_eq!(after(mask(7, 0x0080)).unwrap(), "71");
        assert_eq!(after(mask(7, 0)), Err(MaskError::NoneLeft));
    }
}

#[test]
fn every_ch_mask_cntl_of_the_other_plans() {
    let eu = Region::Eu868.plan();
    let eight = set(0..8);
    assert_eq!(eu.apply_masks(eight, eight, &[mask(0, 0x0007)]), Ok(set(0..3)));
    assert_eq!(eu.apply_masks(eight, set([0]), &[mask(6, 0)]), Ok(eight), "all defined ones");
    assert_eq!(eu.apply_masks(eight, eight, &[mask(0, 0x0107)]), Err(MaskError::Undefined(8)));
    for cntl in [1, 2, 3, 4, 5, 7] {
        assert_eq!(eu.apply_masks(eight, eight, &[mask(cntl, 1)]), Err(MaskError::Reserved(cntl)));
    }
    let cn20 = Region::Cn470A20.plan();
    assert_eq!(
        cn20.apply_masks(cn20.known_channels(), cn20.known_channels(), &[mask(7, 0), mask(3, 1)]),
        Ok(set([48]))
    );
    assert_eq!(cn20.apply_masks(cn20.known_channels(), set([1]), &[mask(6, 0)]), Ok(cn20.known_channels()));
    assert_eq!(cn20.apply_masks(cn20.known_channels(), set([1]), &[mask(4, 1)]), Err(MaskError::Reserved(4)));
    let cn26 = Region::Cn470B26.plan();
    assert_eq!(cn26.apply_masks(cn26.known_channels(), set([1]), &[mask(3, 0)]), Ok(cn26.known_channels()));
    assert_eq!(cn26.apply_masks(cn26.known_channels(), set([1]), &[mask(4, 0), mask(2, 3)]), Ok(set([32, 33])));
}

#[test]
fn usual_changes_take_the_commands_they_should() {
    let us = Region::Us915.plan();
    let planned = |from, to| us.link_adr_masks(us.known_channels(), from, to).unwrap();
    // All channels to one sub-band: one command that names the block.
    assert_eq!(planned(us.known_channels(), us.eight_channels(1).unwrap()), [mask(5, 0x02)]);
    // Eight narrow channels without their wide one: all off with no wide one, then a group.
    let narrow = planned(us.known_channels(), set(8..16));
    assert_eq!(narrow.len(), 2, "{narrow:?}");
    assert_eq!(planned(set([3]), us.known_channels()).len(), 1);
    assert_eq!(planned(set(0..8), set(0..9)), [mask(0, 0x01ff)]);
    assert_eq!(planned(us.known_channels(), us.known_channels()), []);
    let eu = Region::Eu868.plan();
    assert_eq!(eu.link_adr_masks(set(0..8), set(0..3), set(0..8)), Ok(vec![mask(0, 0x00ff)]));
    assert_eq!(eu.link_adr_masks(set(0..8), set(0..3), set([9])), Err(MaskError::Undefined(9)));
    assert_eq!(eu.link_adr_masks(set(0..8), set(0..3), ChannelSet::EMPTY), Err(MaskError::NoneLeft));
}

#[test]
fn a_device_that_takes_each_command_by_itself_is_never_left_without_a_channel() {
    let us = Region::Us915.plan();
    let block = us.link_adr_masks(us.known_channels(), us.known_channels(), set([8, 9, 65])).unwrap();
    let mut current = us.known_channels();
    for step in block {
        current = us.apply_masks(us.known_channels(), current, &[step]).unwrap();
    }
    assert_eq!(current, set([8, 9, 65]));
}

/// Sets that one command leads to from anywhere in `reached`. One that sets a group is tried with the
/// mask that is wanted there, none and all; one that sets everything with every mask, but only as the
/// first command: later it would make those before it superfluous.
fn one_further(
    plan: &Plan,
    reached: &HashSet<ChannelSet>,
    wanted: ChannelSet,
    commands: std::ops::Range<u8>,
) -> HashSet<ChannelSet> {
    let mut next = HashSet::new();
    for from in reached {
        for cntl in commands.clone() {
            let masks: Vec<u16> = match cntl {
                0..=3 => vec![wanted.sixteen(16 * cntl), 0, 0xffff],
                4 => vec![wanted.sixteen(64) & 0xff, 0, 0xff],
                _ => (0..=255).collect(),
            };
            for m in masks {
                match plan.apply_masks(plan.known_channels(), *from, &[mask(cntl, m)]) {
                    Ok(after) => next.insert(after),
                    // Within a block no channel need be on.
                    Err(MaskError::NoneLeft) => next.insert(ChannelSet::EMPTY),
                    Err(other) => panic!("{other}"),
                };
            }
        }
    }
    next
}

/// Breadth first over everything that commands fewer than planned can do.
#[test]
fn no_shorter_block_exists() {
    let us = Region::Us915.plan();
    let defined = us.known_channels();
    let block = |b| us.eight_channels(b).unwrap();
    let some = [
        defined,
        block(0),
        block(1).union(block(5)),
        set(8..16),
        set([0, 17, 65]),
        set(0..64),
        set(64..72),
        set([1, 20, 40, 60, 70]),
        block(1).difference(set([65])).union(set([3])),
    ];
    for from in some {
        for wanted in some {
            let planned = us.link_adr_masks(defined, from, wanted).unwrap();
            let mut reached = HashSet::from([from]);
            for step in 1..planned.len().min(4) {
                assert!(!reached.contains(&wanted), "{from} to {wanted}: {planned:?}");
                reached = one_further(us, &reached, wanted, if step == 1 { 0..8 } else { 0..5 });
            }
            assert!(planned.is_empty() || !reached.contains(&wanted), "{from} to {wanted}: {planned:?}");
        }
    }
}

proptest! {
    #[test]
    fn every_plan_reaches_what_is_wanted(region in prop::sample::select(Region::ALL.to_vec()), from: u128, wanted: u128) {
        let plan = region.plan();
        let defined = if plan.dynamic() { set(0..8) } else { plan.known_channels() };
        let of = |bits: u128| set((0..128).filter(|i| bits & (1 << i) != 0)).intersection(defined);
        let (from, wanted) = (of(from), of(wanted));
        prop_assume!(!wanted.is_empty());
        let block = plan.link_adr_masks(defined, from, wanted).unwrap();
        if from == wanted {
            prop_assert!(block.is_empty());
        } else {
            prop_assert_eq!(plan.apply_masks(defined, from, &block), Ok(wanted));
        }
        let groups = plan.uplinks.iter().map(|b| usize::from(b.count).div_ceil(16)).sum::<usize>();
        prop_assert!(block.len() <= groups, "never more than one command a group");
    }

    #[test]
    fn any_mask_is_answered(region in prop::sample::select(Region::ALL.to_vec()), cntl: u8, m: u16, current: u128) {
        let plan = region.plan();
        let current = set((0..128).filter(|i| current & (1 << i) != 0));
        let _ = plan.apply_masks(plan.known_channels(), current, &[mask(cntl, m)]);
        let _ = plan.mask_label(mask(cntl, m));
    }
}
