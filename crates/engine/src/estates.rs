//! Which gateways may serve a device: those of its estate, and open ones.

use std::borrow::Cow;

use crate::Engine;
use crate::gateway::Gateway;
use crate::io::config::EstateId;
use crate::io::event::Event;
use crate::io::frame::Reception;
use crate::step::Step;
use crate::uplink::collect::Collected;
use crate::uplink::refusal::Refusal;

/// Whether there is more than one: with one alone, nothing has to be told apart.
#[derive(Debug, Default)]
pub(crate) struct Estates {
    first: Option<EstateId>,
    several: bool,
}

impl Estates {
    pub(crate) fn see(&mut self, estate: EstateId) {
        self.several |= *self.first.get_or_insert(estate) != estate;
    }
}

impl Gateway {
    /// Whether it brings in frames of an estate's devices, and sends to them.
    pub(crate) fn serves(&self, estate: EstateId) -> bool {
        self.config.open || self.config.estate == estate
    }
}

impl Engine {
    pub(crate) fn may_hear(&self, copy: &Reception, estate: EstateId) -> bool {
        self.gateways.get(&copy.gateway).is_some_and(|gateway| gateway.serves(estate))
    }

    /// Whether any gateway has heard the frame that serves the estate.
    pub(crate) fn heard_for(&self, frame: &Collected, estate: EstateId) -> bool {
        !self.estates.several || frame.copies.iter().any(|copy| self.may_hear(copy, estate))
    }

    /// The frame with the receptions that an estate may see; the others are discarded, and counted.
    pub(crate) fn kept_for<'a>(
        &self,
        step: &mut Step<'_>,
        frame: &'a Collected,
        estate: EstateId,
    ) -> Cow<'a, Collected> {
        if !self.estates.several || frame.copies.iter().all(|copy| self.may_hear(copy, estate)) {
            return Cow::Borrowed(frame);
        }
        let mut kept = frame.clone();
        kept.copies.retain(|copy| self.may_hear(copy, estate));
        tell_discarded(step, frame.copies.len() - kept.copies.len());
        Cow::Owned(kept)
    }

    /// Tells each estate about a frame of an unknown device that its own gateways heard.
    pub(crate) fn refuse_unknown(&self, step: &mut Step<'_>, frame: &Collected, reason: Refusal) {
        if !self.estates.several {
            return step.publish(frame.refused(None, reason));
        }
        let estate_of = |copy: &Reception| self.gateways.get(&copy.gateway).map(|gateway| gateway.config.estate);
        let mut estates: Vec<EstateId> = frame.copies.iter().filter_map(estate_of).collect();
        estates.sort_unstable();
        estates.dedup();
        for estate in estates {
            let copies = frame.copies.iter().filter(|copy| estate_of(copy) == Some(estate)).cloned().collect();
            let own = Collected { phy_payload: frame.phy_payload.clone(), copies };
            step.publish(own.refused(None, reason.clone()));
        }
    }
}

/// Tells how many copies of a frame were heard by gateways that are not its device's to use.
pub(crate) fn tell_discarded(step: &mut Step<'_>, copies: usize) {
    if copies > 0 {
        step.publish(Event::Discarded { copies });
    }
}
