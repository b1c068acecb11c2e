//! A machine that runs the survey: the agent's own connection, on hardware that was invented.

use std::net::Ipv4Addr;

use lastmile_agent::{
    orders::Orders,
    session::{Outbox, Session},
    status::Status,
};
use lastmile_survey::{
    facts::Facts,
    messages::{DHCP_CLASS, Finish, Said, Survey, ToAgent},
};
use tokio::{sync::mpsc, time::Instant};
use uuid::Uuid;

use crate::{Beat, Machine, SimError, dhcp::Asking};

/// Words of the service that may wait.
const MOST_WORDS: usize = 64;

impl Machine {
    /// Runs the survey that [`Self::boot`] started: asks for an address as another client, reports what was measured, and
    /// waits until the service says how to end.
    ///
    /// # Errors
    /// Where it ended that should have gone on.
    pub async fn survey(
        &self,
        firmware_address: Ipv4Addr,
        parameters: &[String],
        facts: &Facts,
        watch: &mut (dyn FnMut(Beat) + Send),
    ) -> Result<Finish, SimError> {
        let grant = self.lease(Asking::RunningSystem(DHCP_CLASS)).await?;
        if grant.address != firmware_address {
            return Err(SimError::AddressChanged { firmware: firmware_address, installer: grant.address });
        }
        let (orders, errors) = Orders::read(&parameters.join(" "));
        if let Some(error) = errors.first() {
            return Err(SimError::Survey(error.to_string()));
        }
        let (Some(service), Some(token)) = (orders.service, orders.token) else {
            return Err(SimError::Survey("its kernel was told no service and no token".into()));
        };
        let from = Some(self.own(&grant).into());
        let session = Session { service, token, boot: Uuid::now_v7(), since: Instant::now(), from };
        let (outbox, status) = (Outbox::default(), Status::default());
        outbox.put(Said::Survey(Box::new(Survey { facts: facts.clone(), ..Survey::default() })));
        let (say, mut said) = mpsc::channel(MOST_WORDS);
        let obeys = async {
            while let Some(word) = said.recv().await {
                match word {
                    ToAgent::Waits { machine, text } => watch(Beat::Surveyed { machine, waits_for: text }),
                    ToAgent::Finish(finish) => {
                        outbox.delivered().await;
                        return Ok(finish);
                    }
                    ToAgent::Welcome { .. } | ToAgent::Recorded { .. } => {}
                }
            }
            Err(SimError::Survey("the connection ended".into()))
        };
        tokio::select! {
            ended = obeys => ended,
            () = session.run(&outbox, &say, &status) => Err(SimError::Survey("the connection ended".into())),
        }
    }
}
