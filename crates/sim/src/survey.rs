//! A machine that runs the survey: the agent's own connection, on hardware that was invented.

use std::{net::Ipv4Addr, sync::Arc};

use lastmile_agent::{
    hooks,
    jobs::{About, Bench, Jobs},
    orders::Orders,
    session::{Outbox, Session},
    status::Status,
};
use lastmile_survey::{
    facts::Facts,
    messages::{DHCP_CLASS, Finish, Said, Survey, ToAgent},
};
use tokio::{
    sync::{mpsc, oneshot, watch},
    time::Instant,
};
use uuid::Uuid;

use crate::{Beat, Machine, SimError, bench::Invented, dhcp::Asking};

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
        watch_beats: &mut (dyn FnMut(Beat) + Send),
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
        let (outbox, status) = (Arc::new(Outbox::default()), Status::default());
        let report = || Said::Survey(Box::new(Survey { facts: facts.clone(), ..Survey::default() }));
        outbox.put(report());
        let (say, mut said) = mpsc::channel(MOST_WORDS);
        let (ask, mut asks) = mpsc::channel::<oneshot::Sender<()>>(1);
        let (know, about) = watch::channel(About::default());
        let jobs = Jobs::default();
        let bench = Bench {
            hardware: Arc::new(Invented(facts.clone())),
            outbox: outbox.clone(),
            status: status.clone(),
            session: Some(session.clone()),
            programs: format!("{}/none", hooks::FOLDER).into(),
            surveys: ask,
            about,
        };
        let measures = async {
            while let Some(ask) = asks.recv().await {
                outbox.put(report());
                // Whoever asked may be gone.
                let _ = ask.send(());
            }
            std::future::pending::<()>().await;
        };
        let obeys = async {
            while let Some(word) = said.recv().await {
                match word {
                    ToAgent::Waits { machine, labels, details, text } => {
                        know.send_replace(About { machine: machine.clone(), labels, details });
                        watch_beats(Beat::Surveyed { machine, waits_for: text });
                    }
                    ToAgent::Job { number, task } => {
                        watch_beats(Beat::Job { number, what: task.summary() });
                        jobs.order(number, task);
                    }
                    ToAgent::CancelJob { number } => jobs.cancel(number),
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
            () = jobs.run(&bench) => Err(SimError::Survey("its jobs ended".into())),
            () = measures => Err(SimError::Survey("it measures no more".into())),
            () = session.run(&outbox, &say, &status) => Err(SimError::Survey("the connection ended".into())),
        }
    }
}
