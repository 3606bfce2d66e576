//! The network as a state machine without I/O.
#![warn(missing_docs)]
