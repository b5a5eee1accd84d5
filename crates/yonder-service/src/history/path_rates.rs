//! Logbook lines about renditions whose bit rate follows a slow network path.

use yonder_engine::RelayView;
use yonder_store::RecordKind;

use super::History;

impl History {
    /// Records changes of the bit rates of renditions since the last call.
    pub(super) fn note_path_rates(&self) {
        let (relays, _) = self.engine.running();
        let mut noted = self.noted_rates.lock();
        noted.retain(|(relay, _), _| relays.iter().any(|running| running.name == *relay));
        for RelayView { name, pushes, .. } in &relays {
            for push in pushes {
                let made =
                    push.rendition.and_then(|made| Some((made.rendition.video?.kbps, made.video_kbps?)));
                let Some((planned, now)) = made else { continue };
                let before = noted.insert((name.clone(), push.destination.clone()), now).unwrap_or(planned);
                if now == before {
                    continue;
                }
                let (what, reason) = if now < before {
                    ("rate-lowered", "the network path to this destination is too slow")
                } else {
                    ("rate-raised", "the network path to this destination carries more again")
                };
                let detail =
                    format!("{}: {before} → {now} kbit/s of {planned}, since {reason}.", push.destination);
                self.journal.log_own(what, RecordKind::Relay, name, &detail);
            }
        }
    }
}
