//! Handlers of a feed's commands, and of events from its child tasks.

use std::sync::Arc;
use std::task::{Context, Poll};

use yonder_core::{FeedMachine, FeedState};
use yonder_media::Frame;

use crate::children::{ChildEvent, Children, RelayId};
use crate::output::RelayOutput;
use crate::push::{Push, PushId};
use crate::spec::{HoldSpec, PushSpec};

use super::FeedCommand;
use super::actor::{Exit, FeedActor};
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
            FeedCommand::SetSpec(spec) => self.set_spec(spec),
            FeedCommand::Apply { relay, revision, pushes, hold, keyframe } => {
                self.add_relay(&relay, &hold, keyframe);
                self.apply(&relay, revision, pushes, hold);
            }
            FeedCommand::Retry => {
                self.change(|machine, now| machine.set_enabled(true, now));
                self.is_changed = true;
            }
            FeedCommand::Remove(relay) => {
                if let Some(at) = self.relays.iter().position(|output| *output.name == *relay) {
                    self.relays.remove(at).retire(&mut self.children);
                    self.is_changed = true;
                }
            }
            FeedCommand::Hold { relay, wanted } => {
                if let Some(output) = self.relays.iter_mut().find(|output| *output.name == *relay) {
                    output.request_hold(wanted);
                }
            }
            FeedCommand::RollOver { relay, destination } => {
                let output = self.relays.iter_mut().find(|output| *output.name == *relay);
                if let Some(push) = output.and_then(|output| output.push_to(&destination)) {
                    push.roll_over(&mut self.children);
                }
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
        }
    }

    #[cfg(debug_assertions)]
    fn panic_at(&mut self, place: super::PanicPlace, relay: &str) {
        use super::PanicPlace;
        let output = self.relays.iter_mut().find(|output| *output.name == *relay);
        match (place, output) {
            (PanicPlace::Output, Some(output)) => output.panic_next(),
            (PanicPlace::Push, Some(output)) => {
                if let Some(push) = output.pushes().first_mut() {
                    push.panic_next();
                }
            }
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

    /// Adds a new relay; its output begins with the last keyframe.
    fn add_relay(&mut self, name: &str, hold: &HoldSpec, keyframe: Option<Arc<Frame>>) {
        if self.relays.iter().any(|output| *output.name == *name) {
            return;
        }
        let id = RelayId(self.children.next_number());
        let slate = (self.slates.clone(), keyframe);
        let mut output = RelayOutput::new(id, name, self.clock, hold.clone(), slate);
        let now = self.clock.now();
        for frame in self.gop.frames() {
            output.guard(|output| output.handle_feed_frame(frame, now));
        }
        self.relays.push(output);
    }

    /// Applies the specification of a relay.
    fn apply(&mut self, relay: &str, revision: u64, pushes: Vec<PushSpec>, hold: HoldSpec) {
        if let Some(output) = self.relays.iter_mut().find(|output| *output.name == *relay) {
            output.revision = revision;
            output.set_hold(hold);
            output.set_pushes(pushes, &mut self.children);
        }
        self.change(|machine, now| machine.set_enabled(true, now));
        self.is_changed = true;
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
            ChildEvent::SlateRendered(relay, gop) => {
                if let Some(output) = self.relays.iter_mut().find(|output| output.id == relay) {
                    output.handle_rendered(gop, now);
                }
            }
            ChildEvent::PushStep(push, attempt, step) => {
                self.with_push(push, |push, _, _| push.handle_step(attempt, step));
            }
            ChildEvent::PushConnected(push, attempt, result) => {
                self.with_push(push, |push, signal, _| push.handle_connected(attempt, result, signal));
            }
            ChildEvent::PushClosed(closed) => {
                for push in self.relays.iter_mut().flat_map(RelayOutput::pushes) {
                    push.handle_closed(closed);
                }
            }
            ChildEvent::RouteProbed { push, route, is_reachable } => {
                self.with_push(push, |push, _, children| push.handle_probe(&route, is_reachable, children));
            }
            ChildEvent::Done => {}
        }
    }

    fn with_push(
        &mut self,
        id: PushId,
        work: impl FnOnce(&mut Push, &crate::output::OutputSignal, &mut Children),
    ) {
        for output in &mut self.relays {
            let signal = output.signal().clone();
            if let Some(push) = output.push(id) {
                work(push, &signal, &mut self.children);
                return;
            }
        }
    }
}
