//! How a registration was understood, and warnings about it.

use api::device::read_back::ReadBack;
use api::problem::Problem;
use engine::Activation;
use lorawan::{AesKey, Eui64};

use crate::device::register::CheckedDevice;
use crate::radio::profile::profile_of;
use crate::radio::settings::wire_class;

/// How a device was understood.
///
/// # Errors
/// If its settings make no profile, which a checked device's do.
pub fn read_back(device: &CheckedDevice, warnings: Vec<String>) -> Result<ReadBack, Problem> {
    let profile = profile_of(&device.whole, device.region)?;
    Ok(ReadBack {
        dev_eui: device.dev_eui,
        join_eui: device.join_eui,
        name: device.name.clone(),
        fleet: device.fleet.clone(),
        model: device.model.clone(),
        profile: device.profile.clone(),
        region: device.region,
        mac_version: profile.version,
        class: wire_class(profile.class),
        joins: matches!(device.activation, Activation::OverTheAir(_)),
        warnings,
    })
}

/// EUIs that differ from this one by a likely copying mistake: one wrong digit, or two neighbours swapped. The last
/// four digits are not varied: makers count them up.
pub fn near_misses(eui: Eui64) -> impl Iterator<Item = Eui64> {
    let digit = move |place: u32| eui.0 >> (4 * place) & 0xf;
    let other = (4..16).flat_map(move |place| (1..16u64).map(move |by| Eui64(eui.0 ^ by << (4 * place))));
    let exchanged = (4..15).filter_map(move |place| {
        let by = digit(place) ^ digit(place + 1);
        (by != 0).then_some(Eui64(eui.0 ^ (by | by << 4) << (4 * place)))
    });
    exchanged.chain(other)
}

/// Warnings about a device's identity among known ones: `name_of` has the names of registered devices.
pub fn warnings(device: &CheckedDevice, near: bool, name_of: &dyn Fn(Eui64) -> Option<String>) -> Vec<String> {
    let (dev_eui, join_eui) = (device.dev_eui, device.join_eui);
    let mut found = device.notes.clone();
    if let Some(name) = name_of(dev_eui.reversed()).filter(|_| dev_eui != dev_eui.reversed()) {
        found.push(format!(
            "{name} has this DevEUI with its bytes reversed, {}: one of the two is likely wrong.",
            dev_eui.reversed()
        ));
    }
    if let Some((join_eui, name)) = join_eui.and_then(|join_eui| Some((join_eui, name_of(join_eui)?))) {
        found.push(format!("{join_eui} is the DevEUI of {name}: DevEUI and JoinEUI may be swapped."));
    }
    if Some(dev_eui) == join_eui {
        found.push("DevEUI and JoinEUI are the same.".into());
    }
    if near && let Some((eui, name)) = near_misses(dev_eui).find_map(|eui| name_of(eui).map(|name| (eui, name))) {
        found.push(format!("{name} has nearly the same DevEUI, {eui}: see that this one is copied rightly."));
    }
    if let Activation::OverTheAir(root) = &device.activation {
        let plain = |key: &AesKey| key.0.iter().all(|byte| *byte == key.0[0]);
        if plain(&root.app_key) || root.nwk_key.as_ref().is_some_and(plain) {
            found.push("All bytes of its key are the same: that is a placeholder, not a secret.".into());
        }
    }
    found
}
