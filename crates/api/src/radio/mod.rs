//! A device's radio: settings, named profiles, what device and network agreed on.

pub mod agreement;
pub mod profile;
pub mod settings;
