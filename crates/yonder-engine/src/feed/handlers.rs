//! Handlers of a feed's commands, and of events from its child tasks.

use std::sync::Arc;
use std::task::{Context, Poll};

use yonder_core::preflight::FeedFacts;
use yonder_core::rendition::Rendition;
use yonder_core::{FeedMachine, FeedState};
use yonder_media::{Frame, StreamHeaders};

use crate::children::{ChildEvent, Children};
use crate::ids::PushId;
use crate::output::signal::OutputSignal;
use crate::push::Push;
use crate::relay::{Relay, RelayParts};

use super::FeedCommand;
use super::actor::{Exit, FeedActor};
use super::facts::facts;
use super::viewer::Viewer;

impl FeedActor {
    pub(super) fn handle_commands(&mut self, task: &mut Context<'_>) {
        while self.exit.is_none() {
            match self.commands.poll_recv(task) {
                Poll::Ready(Some(command)) => self.handle_command(command),
                Poll::Ready(None) => self.exit = Some(Exit::End),
                Poll::Pending => return,
            }
        }
    }

    fn handle_command(&mut self, command: FeedCommand) {
        match command {
            FeedCommand::SetSpec(spec) => self.set_spec(*spec),
            FeedCommand::Apply { relay, revision, pushes, hold, hls, keyframes } => {
                self.add_relay(&relay, keyframes);
                self.apply(&relay, revision, RelayParts { pushes, hold, hls });
            }
            FeedCommand::Retry => {
                self.change(|machine, now| machine.set_enabled(true, now));
                self.is_changed = true;
            }
            FeedCommand::Publish(publisher) => self.begin_publisher(*publisher),
            FeedCommand::Remove(relay) => {
                if let Some(at) = self.relays.iter().position(|other| *other.name == *relay) {
                    self.relays.remove(at).retire(&mut self.children);
                    self.update_renditions();
                    self.is_changed = true;
                }
            }
            FeedCommand::Hold { relay, wanted } => {
                if let Some(relay) = self.relay(&relay) {
                    relay.request_hold(wanted);
                }
            }
            FeedCommand::RollOver { relay, destination } => {
                let relay = self.relays.iter_mut().find(|other| *other.name == *relay);
                if let Some(push) = relay.and_then(|relay| relay.push_to(&destination)) {
                    push.roll_over(&mut self.children);
                }
            }
            FeedCommand::Keyframe { relay, destination, reply } => {
                let rendition = self.relay(&relay).and_then(|relay| relay.rendition_of(&destination));
                let keyframe = rendition.and_then(|rendition| {
                    let gop = self.renditions.get(rendition).map_or(&self.gop, |stage| &stage.gop);
                    gop.frames().first().cloned()
                });
                // The caller may have gone.
                let _unused = reply.send(keyframe);
            }
            FeedCommand::Subscribe(frames) => {
                let is_flowing = self.machine.state() == FeedState::Flowing;
                let mut viewer = Viewer { frames, skips: !is_flowing };
                // The last frames of an absent feed are outdated.
                if is_flowing {
                    for frame in self.gop.frames() {
                        viewer.send(frame);
                    }
                }
                self.viewers.push(viewer);
            }
            FeedCommand::Move(to) => self.exit = Some(Exit::Move(to)),
            FeedCommand::End => self.exit = Some(Exit::End),
            #[cfg(debug_assertions)]
            FeedCommand::Panic(place, relay) => self.panic_at(place, &relay),
            #[cfg(debug_assertions)]
            FeedCommand::StallRenditions(time) => self.renditions.stall(time),
        }
    }

    #[cfg(debug_assertions)]
    fn panic_at(&mut self, place: super::PanicPlace, relay: &str) {
        use super::PanicPlace;
        let relay = self.relays.iter_mut().find(|other| *other.name == *relay);
        match (place, relay) {
            (PanicPlace::Output, Some(relay)) => relay.panic_next(),
            (PanicPlace::Push, Some(relay)) => {
                if let Some(push) = relay.pushes().next() {
                    push.panic_next();
                }
            }
            (PanicPlace::Rendition, _) => self.renditions.panic_next(),
            (PanicPlace::Source | PanicPlace::Actor, _) => self.panics_next = Some(place),
            (PanicPlace::Output | PanicPlace::Push, None) => {}
        }
    }

    /// Panics if a test has requested it.
    pub(super) fn panic_in_source(&mut self) {
        #[cfg(debug_assertions)]
        assert!(
            self.panics_next.take_if(|place| *place == super::PanicPlace::Source).is_none(),
            "panic requested by a test"
        );
    }

    /// Returns the relay with this name.
    fn relay(&mut self, name: &str) -> Option<&mut Relay> {
        self.relays.iter_mut().find(|relay| *relay.name == *name)
    }

    /// Adds a relay, unless it exists.
    fn add_relay(&mut self, name: &str, keyframes: Vec<(Rendition, Arc<Frame>)>) {
        if self.relay(name).is_none() {
            self.relays.push(Relay::new(name, self.clock, self.slates.clone(), self.hls.clone(), keyframes));
        }
    }

    /// Applies the specification of a relay.
    fn apply(&mut self, relay: &str, revision: u64, parts: RelayParts) {
        let facts = self.facts();
        if let Some(relay) = self.relays.iter_mut().find(|other| *other.name == *relay) {
            relay.revision = revision;
            relay.apply(parts, facts.as_ref(), &mut self.children);
        }
        self.update_renditions();
        self.change(|machine, now| machine.set_enabled(true, now));
        self.is_changed = true;
    }

    /// Returns the facts of the stream that was received last, or measured before; `None` without either.
    fn facts(&self) -> Option<FeedFacts> {
        match &self.headers {
            Some(headers) => Some(facts(&self.spec, headers)),
            None => self.spec.measured.clone(),
        }
    }

    /// Chooses the renditions of all pushes if the headers of the stream have changed.
    pub(super) fn handle_headers(&mut self, headers: &Arc<StreamHeaders>) {
        if self.headers.as_ref().is_some_and(|known| Arc::ptr_eq(known, headers)) {
            return;
        }
        self.headers = Some(Arc::clone(headers));
        let facts = facts(&self.spec, headers);
        for relay in &mut self.relays {
            relay.handle_facts(&facts, &mut self.children);
        }
        self.update_renditions();
    }

    /// Starts and ends renditions as the pushes need, and gives new outputs the frames since the last keyframe.
    fn update_renditions(&mut self) {
        let now = self.clock.now();
        let used: Vec<Rendition> = self.relays.iter().flat_map(Relay::renditions).collect();
        self.renditions.set_used(&used, &self.spec.name, now);
        for output in self.relays.iter_mut().flat_map(Relay::new_outputs) {
            let gop = self.renditions.get(output.rendition).map_or(&self.gop, |stage| &stage.gop);
            for frame in gop.frames() {
                output.guard(|output| output.handle_frame(frame, now));
            }
        }
    }

    pub(super) fn handle_children(&mut self, task: &mut Context<'_>) {
        // The channel stays open, since the actor has a sender.
        while let Poll::Ready(Some(event)) = self.children.poll_event(task) {
            self.handle_child(event);
        }
    }

    fn handle_child(&mut self, event: ChildEvent) {
        let now = self.clock.now();
        match event {
            ChildEvent::SourceStep(attempt, step) => self.handle_source_step(attempt, step, now),
            ChildEvent::SourceConnected(attempt, dial, result) => {
                self.handle_source_connected(attempt, dial, result);
            }
            ChildEvent::SourceDiagnosed(attempt, cause) => self.handle_source_diagnosed(attempt, cause),
            ChildEvent::SourceClosed => self.closing_sources = self.closing_sources.saturating_sub(1),
            ChildEvent::CameraAnswered => {
                self.probe = None;
                self.change(FeedMachine::on_probe_answered);
            }
            ChildEvent::SlateRendered(output, mut gop) => {
                let _found = self.relays.iter_mut().any(|relay| relay.handle_rendered(output, &mut gop, now));
            }
            ChildEvent::PushStep(push, attempt, step) => {
                self.with_push(push, |push, _, _| push.handle_step(attempt, step));
            }
            ChildEvent::PushConnected(push, attempt, result) => {
                self.with_push(push, |push, signal, _| push.handle_connected(attempt, result, signal));
            }
            ChildEvent::PushClosed(closed) => {
                for push in self.relays.iter_mut().flat_map(Relay::pushes) {
                    push.handle_closed(closed);
                }
            }
            ChildEvent::RouteProbed { push, route, is_reachable } => {
                self.with_push(push, |push, _, children| push.handle_probe(&route, is_reachable, children));
            }
            ChildEvent::Done => {}
        }
    }

    fn with_push(&mut self, id: PushId, work: impl FnOnce(&mut Push, &OutputSignal, &mut Children)) {
        if let Some((push, signal)) = self.relays.iter_mut().find_map(|relay| relay.push(id)) {
            work(push, &signal, &mut self.children);
        }
    }
}
