//! Relay of a feed: distributes its pushes over outputs, one for each rendition that they need.

use std::sync::Arc;
use std::task::Context;
use std::time::{Duration, Instant};

use yonder_core::preflight::FeedFacts;
use yonder_core::rendition::{Adapt, Rendition, Selection, browser_requirements, browser_rules};
use yonder_media::Frame;
use yonder_slate::{SlateFolder, SlateGop};

use crate::children::Children;
use crate::clock::Clock;
use crate::feed::{FeedSignal, FeedStats};
use crate::ids::OutputId;
use crate::ids::PushId;
use crate::output::hls::{HlsOutput, HlsStreams};
use crate::output::signal::OutputSignal;
use crate::output::{OutputContext, RelayOutput};
use crate::push::Push;
use crate::rendition::Renditions;
use crate::spec::{HoldSpec, PushSpec};
use crate::view::PushView;

/// Push of a relay, with its rendition.
#[derive(Debug)]
struct PlannedPush {
    spec: PushSpec,
    selection: Selection,
}

/// Parts of a relay's specification.
#[derive(Debug)]
pub(crate) struct RelayParts {
    pub(crate) pushes: Vec<PushSpec>,
    pub(crate) hold: HoldSpec,
    /// An HLS stream is made.
    pub(crate) hls: bool,
}

/// Relay with its outputs.
#[derive(Debug)]
pub(crate) struct Relay {
    pub(crate) name: Arc<str>,
    /// Revision of the applied specification.
    pub(crate) revision: u64,
    clock: Clock,
    hold: HoldSpec,
    /// Folder of slate sources, which survive a restart.
    slates: Option<SlateFolder>,
    /// Slate sources from before a restart, for outputs to be created.
    keyframes: Vec<(Rendition, Arc<Frame>)>,
    /// Pushes in the order of the relay's destinations.
    planned: Vec<PlannedPush>,
    /// Rendition of the HLS stream; `None` without one.
    hls: Option<Selection>,
    /// HLS streams of all relays.
    streams: HlsStreams,
    outputs: Vec<RelayOutput>,
    /// Pushes were added or removed.
    is_changed: bool,
}

/// Streams that the outputs send, and the state that they share.
pub(crate) struct RelayContext<'a, 'w> {
    pub(crate) task: &'a mut Context<'w>,
    /// This poll is a tick, with evaluations.
    pub(crate) is_tick: bool,
    /// Statistics of the feed.
    pub(crate) stats: &'a mut FeedStats,
    /// State of the feed.
    pub(crate) signal: &'a FeedSignal,
    pub(crate) renditions: &'a mut Renditions,
    pub(crate) children: &'a mut Children,
}

impl Relay {
    /// Creates a relay without pushes. `keyframes` are its slate sources from before a restart.
    pub(crate) fn new(
        name: &str,
        clock: Clock,
        slates: Option<SlateFolder>,
        streams: HlsStreams,
        keyframes: Vec<(Rendition, Arc<Frame>)>,
    ) -> Self {
        Self {
            name: name.into(),
            revision: 0,
            clock,
            hold: HoldSpec::default(),
            slates,
            keyframes,
            planned: Vec::new(),
            hls: None,
            streams,
            outputs: Vec::new(),
            is_changed: true,
        }
    }

    /// Applies a specification without touching unchanged pushes. `facts` are those of the feed, once they are known.
    pub(crate) fn apply(&mut self, parts: RelayParts, facts: Option<&FeedFacts>, children: &mut Children) {
        let RelayParts { pushes, hold, hls } = parts;
        for output in &mut self.outputs {
            output.set_hold(hold.clone());
        }
        self.hold = hold;
        let mut before = std::mem::take(&mut self.planned);
        for spec in pushes {
            let at = before.iter().position(|other| other.spec.destination == spec.destination);
            let known = at.map(|at| before.swap_remove(at));
            let unchanged = known.filter(|known| known.spec.adaptation == spec.adaptation);
            let selection = unchanged.map(|known| known.selection).unwrap_or_default();
            self.planned.push(PlannedPush { spec, selection });
        }
        self.hls = hls.then(|| self.hls.take().unwrap_or_default());
        if let Some(facts) = facts {
            self.select(facts);
        }
        self.distribute(children);
    }

    /// Chooses the renditions for a feed whose headers have changed. Only pushes that need another rendition reconnect.
    pub(crate) fn handle_facts(&mut self, facts: &FeedFacts, children: &mut Children) {
        if self.select(facts) {
            self.distribute(children);
        }
    }

    /// Returns true if a rendition has changed.
    fn select(&mut self, facts: &FeedFacts) -> bool {
        let mut is_changed = false;
        for PlannedPush { spec, selection } in &mut self.planned {
            is_changed |= selection.update(facts, spec.requirements(), spec.adaptation.adapt);
        }
        if let Some(selection) = &mut self.hls {
            is_changed |= selection.update(facts, browser_requirements(&browser_rules()), Adapt::All);
        }
        is_changed
    }

    /// Returns the renditions of all pushes, and that of the HLS stream.
    pub(crate) fn renditions(&self) -> impl Iterator<Item = Rendition> {
        let pushes = self.planned.iter().map(|planned| &planned.selection);
        pushes.chain(&self.hls).map(Selection::rendition)
    }

    /// Returns the rendition of the push to a destination.
    pub(crate) fn rendition_of(&self, destination: &str) -> Option<Rendition> {
        let planned = self.planned.iter().find(|planned| planned.spec.destination == destination);
        planned.map(|planned| planned.selection.rendition())
    }

    /// Moves the HLS stream to the output with its rendition, or begins or ends it.
    fn distribute_hls(&mut self, children: &mut Children) {
        let mut before = self.outputs.iter_mut().find_map(|output| output.take_hls());
        let Some(rendition) = self.hls.as_ref().map(Selection::rendition) else { return };
        if let Some((other, hls)) = &mut before
            && *other != rendition
        {
            hls.cut();
        }
        let (clock, name) = (self.clock, Arc::clone(&self.name));
        let hls = before.map_or_else(|| HlsOutput::begin(&name, clock, &self.streams), |(_, hls)| hls);
        self.output(rendition, children).set_hls(hls);
    }

    /// Moves each push to the output with its rendition, creates new pushes and ends removed ones.
    fn distribute(&mut self, children: &mut Children) {
        let mut before: Vec<(Rendition, Push)> = Vec::new();
        for output in &mut self.outputs {
            let rendition = output.rendition;
            before.extend(output.take_pushes().into_iter().map(|push| (rendition, push)));
        }
        for PlannedPush { spec, selection } in std::mem::take(&mut self.planned) {
            let rendition = selection.rendition();
            let at = before.iter().position(|(_, push)| push.spec().destination == spec.destination);
            let push = match at.map(|at| before.remove(at)) {
                Some((other, mut kept)) if kept.spec().has_same_identity(&spec) => {
                    kept.apply_policy(&spec, children);
                    if other != rendition {
                        // Its headers and times are those of another stream.
                        kept.roll_over(children);
                    }
                    kept
                }
                replaced => {
                    // The new push waits until the replaced one is closed, which would keep the key busy.
                    let predecessor = replaced.and_then(|(_, replaced)| replaced.retire(children));
                    let id = PushId(children.next_number());
                    Push::new(id, self.clock, Arc::clone(&self.name), spec.clone(), predecessor)
                }
            };
            self.output(rendition, children).add_push(push);
            self.planned.push(PlannedPush { spec, selection });
        }
        for (_, removed) in before {
            removed.retire(children);
        }
        self.distribute_hls(children);
        self.outputs.retain_mut(|output| output.is_used());
        self.is_changed = true;
    }

    /// Returns the output with a rendition, which is created if necessary.
    fn output(&mut self, rendition: Rendition, children: &mut Children) -> &mut RelayOutput {
        if let Some(at) = self.outputs.iter().position(|output| output.rendition == rendition) {
            return &mut self.outputs[at];
        }
        let id = OutputId(children.next_number());
        let stored = self.keyframes.iter().position(|(other, _)| *other == rendition);
        let keyframe = stored.map(|at| self.keyframes.swap_remove(at).1);
        let slates = (self.slates.clone(), keyframe);
        let output = RelayOutput::new(id, &self.name, rendition, self.clock, self.hold.clone(), slates);
        self.outputs.push(output);
        let last = self.outputs.len() - 1;
        &mut self.outputs[last]
    }

    /// Ends the relay's pushes in order.
    pub(crate) fn retire(self, children: &mut Children) {
        for output in self.outputs {
            output.retire(children);
        }
    }

    /// Begins or ends a hold requested by an operator.
    pub(crate) fn request_hold(&mut self, wanted: bool) {
        self.hold.wanted = wanted;
        for output in &mut self.outputs {
            output.request_hold(wanted);
        }
    }

    /// Returns all pushes.
    pub(crate) fn pushes(&mut self) -> impl Iterator<Item = &mut Push> {
        self.outputs.iter_mut().flat_map(RelayOutput::pushes)
    }

    /// Returns the push with this ID, and the state of its output.
    pub(crate) fn push(&mut self, id: PushId) -> Option<(&mut Push, OutputSignal)> {
        self.outputs.iter_mut().find_map(|output| {
            let signal = output.signal().clone();
            output.pushes().iter_mut().find(|push| push.id == id).map(|push| (push, signal))
        })
    }

    /// Returns the push to a destination.
    pub(crate) fn push_to(&mut self, destination: &str) -> Option<&mut Push> {
        self.pushes().find(|push| push.spec().destination == destination)
    }

    /// Returns the outputs that have received no frames yet.
    pub(crate) fn new_outputs(&mut self) -> impl Iterator<Item = &mut RelayOutput> {
        self.outputs.iter_mut().filter_map(|output| output.take_new().then_some(output))
    }

    /// Passes a rendered slate to its output. Returns false if that is not one of this relay.
    pub(crate) fn handle_rendered(
        &mut self,
        id: OutputId,
        gop: &mut Option<SlateGop>,
        now: Duration,
    ) -> bool {
        let output = self.outputs.iter_mut().find(|output| output.id == id);
        output.map(|output| output.handle_rendered(gop.take(), now)).is_some()
    }

    /// Handles a frame of the feed, or of a rendition.
    pub(crate) fn handle_frame(&mut self, rendition: Rendition, frame: &Arc<Frame>, now: Duration) {
        for output in self.outputs.iter_mut().filter(|output| output.rendition == rendition) {
            output.guard(|output| output.handle_frame(frame, now));
        }
    }

    /// Polls all outputs. Returns true if some must be polled again at once.
    pub(crate) fn poll(&mut self, context: &mut RelayContext<'_, '_>, deadline: Instant) -> bool {
        let mut has_more = false;
        let now = self.clock.now();
        for output in &mut self.outputs {
            let (is_tick, signal) = (context.is_tick, context.signal);
            let (task, children) = (&mut *context.task, &mut *context.children);
            let mut output_context = match context.renditions.get(output.rendition) {
                Some(stage) => {
                    let overload = stage.overload.as_ref();
                    let (stats, signal) = (&mut stage.stats, &stage.signal);
                    OutputContext { task, is_tick, stats, signal, overload, children }
                }
                None => {
                    let stats = &mut *context.stats;
                    OutputContext { task, is_tick, stats, signal, overload: None, children }
                }
            };
            has_more |= output.guard(|output| output.poll(&mut output_context, deadline));
            if is_tick {
                follow_path(output, context.renditions, now);
            }
        }
        has_more
    }

    /// Returns the next time at which [`Self::poll`] is due.
    pub(crate) fn poll_timeout(&self) -> Option<Duration> {
        self.outputs.iter().filter_map(RelayOutput::poll_timeout).min()
    }

    /// Returns true once something has changed since the last call.
    pub(crate) fn take_change(&mut self) -> bool {
        let mut is_changed = std::mem::take(&mut self.is_changed);
        for output in &mut self.outputs {
            is_changed |= output.take_change();
        }
        is_changed
    }

    /// Returns the views of the pushes, in the order of the relay's destinations.
    pub(crate) fn views(&mut self, renditions: &Renditions, now: Duration) -> Vec<PushView> {
        let mut views = Vec::new();
        for output in &mut self.outputs {
            let rendition = renditions.view(output.rendition);
            views.extend(output.views(now).into_iter().map(|view| PushView { rendition, ..view }));
        }
        let place = |view: &PushView| {
            self.planned.iter().position(|planned| planned.spec.destination == view.destination)
        };
        views.sort_by_key(place);
        views
    }

    /// Makes the next frame panic, for tests.
    #[cfg(debug_assertions)]
    pub(crate) fn panic_next(&mut self) {
        if let Some(output) = self.outputs.first_mut() {
            output.panic_next();
        }
    }
}

/// Adapts the bit rate of a rendition to the network path of its only push.
fn follow_path(output: &mut RelayOutput, renditions: &mut Renditions, now: Duration) {
    let Some(stage) = renditions.get(output.rendition).filter(|stage| stage.shared_by == 1) else { return };
    if let Some(sample) = output.pushes().first_mut().and_then(|push| push.path_sample(now)) {
        stage.follow_path(sample, now);
    }
}
