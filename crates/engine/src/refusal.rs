//! Why a frame was not accepted, in words that say what to compare and what to do next.

use lorawan::wire::{FrameError, MType};
use lorawan::{DevAddr, Eui64};

/// The check that failed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Refusal {
    /// No device with this DevEUI.
    UnknownDevEui {
        /// As received.
        dev_eui: Eui64,
        /// As received.
        join_eui: Eui64,
    },
    /// No such device, but one whose DevEUI has the same bytes the other way round.
    DevEuiReversed {
        /// As received.
        dev_eui: Eui64,
        /// As registered.
        registered: Eui64,
    },
    /// DevEUI and JoinEUI have changed places.
    EuisSwapped {
        /// The registered DevEUI, received as JoinEUI.
        registered: Eui64,
    },
    /// The device is known, but joins with another JoinEUI.
    WrongJoinEui {
        /// As received.
        received: Eui64,
        /// As registered.
        registered: Eui64,
    },
    /// EUIs agree, the join-request's MIC does not: the AppKeys differ.
    JoinMic {
        /// Whether the MIC agrees once the registered key's bytes are reversed.
        key_reversed: bool,
    },
    /// The DevNonce was used in an earlier join.
    DevNonceUsed {
        /// As received.
        dev_nonce: u16,
    },
    /// No device has this address here.
    UnknownDevAddr {
        /// As received.
        dev_addr: DevAddr,
    },
    /// Devices have this address, but none of their session keys made the MIC.
    DataMic {
        /// As received.
        dev_addr: DevAddr,
    },
    /// The right keys, but a counter that is not above the last one.
    CounterTooLow {
        /// As received, in full.
        received: u32,
        /// The last accepted.
        last: u32,
    },
    /// A frame of a type that this network does not answer.
    NotServed {
        /// Its type.
        mtype: MType,
    },
    /// Not a LoRaWAN frame.
    Unreadable {
        /// What is wrong with it.
        error: FrameError,
    },
}

impl Refusal {
    /// A stable word for programs.
    pub const fn code(&self) -> &'static str {
        match self {
            Refusal::UnknownDevEui { .. } => "unknown_dev_eui",
            Refusal::DevEuiReversed { .. } => "dev_eui_reversed",
            Refusal::EuisSwapped { .. } => "euis_swapped",
            Refusal::WrongJoinEui { .. } => "wrong_join_eui",
            Refusal::JoinMic { .. } => "join_mic_mismatch",
            Refusal::DevNonceUsed { .. } => "dev_nonce_used",
            Refusal::UnknownDevAddr { .. } => "unknown_dev_addr",
            Refusal::DataMic { .. } => "mic_mismatch",
            Refusal::CounterTooLow { .. } => "counter_too_low",
            Refusal::NotServed { .. } => "not_served",
            Refusal::Unreadable { .. } => "unreadable_frame",
        }
    }

    /// Whether it was a join that was refused.
    pub const fn is_join(&self) -> bool {
        matches!(
            self,
            Refusal::UnknownDevEui { .. }
                | Refusal::DevEuiReversed { .. }
                | Refusal::EuisSwapped { .. }
                | Refusal::WrongJoinEui { .. }
                | Refusal::JoinMic { .. }
                | Refusal::DevNonceUsed { .. }
        )
    }

    /// What was found.
    pub fn why(&self) -> String {
        match self {
            Refusal::UnknownDevEui { dev_eui, join_eui } => {
                format!("A device with DevEUI {dev_eui} (JoinEUI {join_eui}) asks to join, but none is registered with that DevEUI.")
            }
            Refusal::DevEuiReversed { dev_eui, registered } => format!(
                "A device joins with DevEUI {dev_eui}. None is registered with it, but {registered} has the same bytes in reverse order."
            ),
            Refusal::EuisSwapped { registered } => format!(
                "The join-request carries {registered} as JoinEUI, but that is a registered DevEUI: the two EUIs have changed places in the device."
            ),
            Refusal::WrongJoinEui { received, registered } if received.reversed() == *registered => format!(
                "The device joins with JoinEUI {received}, which is the registered {registered} with its bytes reversed."
            ),
            Refusal::WrongJoinEui { received, registered } => {
                format!("The device joins with JoinEUI {received}, but is registered with {registered}.")
            }
            Refusal::JoinMic { key_reversed: true } => {
                "The AppKey in the device is the registered one with its bytes reversed: the MIC agrees that way round.".into()
            }
            Refusal::JoinMic { key_reversed: false } => {
                "DevEUI and JoinEUI agree, but the MIC does not: the AppKey in the device differs from the registered one.".into()
            }
            Refusal::DevNonceUsed { dev_nonce } => {
                format!("DevNonce {dev_nonce} was used in an earlier join of this device. Accepting it again would allow a replay.")
            }
            Refusal::UnknownDevAddr { dev_addr } => format!("No device here has a session with DevAddr {dev_addr}."),
            Refusal::DataMic { dev_addr } => format!(
                "DevAddr {dev_addr} is in use here, but the MIC was not made with the session keys of any device that has it."
            ),
            Refusal::CounterTooLow { received, last } => {
                format!("Frame counter {received} is not above the last accepted one, {last}.")
            }
            Refusal::NotServed { mtype } => format!("A {}: this network does not answer such frames.", mtype.name()),
            Refusal::Unreadable { error } => format!("Not a LoRaWAN frame: {error}."),
        }
    }

    /// What to do about it.
    pub fn next_step(&self) -> &'static str {
        match self {
            Refusal::UnknownDevEui { .. } => {
                "If it is yours, register it with the EUIs shown; if not, nothing needs doing."
            }
            Refusal::DevEuiReversed { .. } => {
                "Compare with the label: correct the DevEUI in the registration, or its byte order in the firmware (many stacks want it least significant byte first)."
            }
            Refusal::EuisSwapped { .. } => "Exchange DevEUI and JoinEUI in the device's settings.",
            Refusal::WrongJoinEui { .. } => {
                "Enter the received JoinEUI in the registration, or set the registered one in the device."
            }
            Refusal::JoinMic { key_reversed: true } => {
                "Reverse the AppKey's bytes in the registration or in the firmware."
            }
            Refusal::JoinMic { key_reversed: false } => {
                "Compare the AppKey in the device with the registered one, digit by digit. For LoRaWAN 1.0.x some firmware calls it NwkKey."
            }
            Refusal::DevNonceUsed { .. } => {
                "Usually the device starts its nonces over after each reset. It gets through with a nonce it has not used; if it never does, its firmware has to keep the nonce over resets."
            }
            Refusal::UnknownDevAddr { .. } => {
                "Most likely a neighbour's device. If it is yours, it holds an old session: make it join again."
            }
            Refusal::DataMic { .. } => {
                "Most likely a neighbour's device with the same address. If it is yours, it holds an old session: make it join again."
            }
            Refusal::CounterTooLow { .. } => {
                "If the device was restarted without joining again, make it join; it will be heard once its counter has passed the last one. Otherwise a frame is being replayed."
            }
            Refusal::NotServed { .. } => {
                "If it is from a device of yours, set it to LoRaWAN 1.0.x; if not, nothing needs doing."
            }
            Refusal::Unreadable { .. } => {
                "Another system on the same frequency, or a damaged frame: nothing needs doing."
            }
        }
    }
}
