//! Stand-in devices and gateways, and the demo scenario.
