//! Start of a relay after its preflight.

use std::sync::Arc;

use yonder_core::preflight::CheckStatus;

use super::Service;
use yonder_records::Change;
use yonder_records::JobContext;
use yonder_records::ServiceError;
use yonder_records::run_blocking;

impl Service {
    /// Starts a relay. Its first start, and the first one after a change of its configuration, require a passed
    /// preflight.
    ///
    /// # Errors
    /// [`ServiceError::PreflightFailed`] with the checks, and as
    /// [`Transaction::start_relay`](crate::Transaction::start_relay).
    ///
    /// # Cancel safety
    /// When dropped before it is done, the relay may or may not have been started.
    pub async fn start_checked(
        self: &Arc<Self>,
        change: Change,
        context: &JobContext,
    ) -> Result<(), ServiceError> {
        let name = change.name.clone();
        let (service, wanted) = (Arc::clone(self), name.clone());
        let cleared = run_blocking(move || {
            let relay =
                service.records.store.relay(&wanted).map_err(|error| service.records.explain(error))?;
            // In a running relay only blocked parts are retried.
            Ok(relay.preflight_passed_at_s.is_some() || relay.wanted.is_running())
        });
        if !cleared.await? {
            let preflight = self.planner.preflight(&name, context).await?;
            if preflight.level == CheckStatus::Fail {
                return Err(ServiceError::PreflightFailed {
                    relay: preflight.relay,
                    checks: preflight.checks,
                });
            }
        }
        context.check_canceled()?;
        context.set_step("starting");
        let service = Arc::clone(self);
        run_blocking(move || {
            service.execute(&change, |transaction| transaction.start_relay(&name)).map(|_| ())
        })
        .await
    }
}
