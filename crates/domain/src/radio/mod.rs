//! A device's radio: its settings, the profile that they make, and what the device agreed to.

pub mod agreement;
pub mod diff;
pub mod profile;
pub mod settings;
