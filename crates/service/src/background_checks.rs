use std::sync::Arc;

use tokio_util::sync::CancellationToken;

use crate::checker::{CheckOptions, PATIENCE, RouteChecker, Trigger};
use crate::machine::MachineObserver;
use crate::pki::Pki;

/// What a check takes: the checker, and what it has to know of the machine and the certificates.
#[derive(Debug)]
pub(crate) struct Checks {
    pub(crate) checker: Arc<RouteChecker>,
    pub(crate) machine: Arc<MachineObserver>,
    pub(crate) pki: Arc<Pki>,
}

impl Checks {
    /// Options for a check of whole routes, on the machine as it is now.
    pub(crate) async fn options(&self, trigger: Trigger, deep: bool) -> CheckOptions {
        let fresh = trigger == Trigger::Request;
        CheckOptions {
            trigger,
            only: None,
            deep,
            patience: PATIENCE,
            machine: self.machine.observe(fresh, deep).await,
            pairs: self.pki.imports.facts(),
        }
    }

    /// Checks the routes that are due, until the service stops.
    pub(crate) async fn run(&self, shutdown: CancellationToken) {
        let rounds = async {
            loop {
                let due = self.checker.due();
                if !due.is_empty() {
                    let options = self.options(Trigger::Background, false).await;
                    self.checker.check(due, &options).await;
                }
                self.checker.next_round().await;
            }
        };
        shutdown.run_until_cancelled(rounds).await;
    }
}
