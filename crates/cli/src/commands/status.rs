//! `lastmile status`

use lastmile_client::Client;

use crate::output::{Failure, Output, ago, pairs};

/// `lastmile status`
pub(crate) async fn run(client: &Client, out: &Output) -> Result<(), Failure> {
    let status = client.status_read().await?;
    out.show(&status, |status| {
        let c = &status.counters;
        let recorded = match &status.trouble {
            None => "yes".to_owned(),
            Some(trouble) => {
                format!("no: {trouble}\nleases and installs wait until it can: `lastmile check`")
            }
        };
        pairs([
            ("version", status.version.clone()),
            ("started", ago(Some(status.since))),
            ("listens", status.listens.join("\n")),
            ("machines", status.machines.to_string()),
            ("recording", recorded),
            (
                "DHCP",
                format!(
                    "{} answered, {} not for us, {} malformed",
                    c.dhcp_answered, c.dhcp_ignored, c.dhcp_malformed
                ),
            ),
            (
                "TFTP",
                format!(
                    "{} sent, {} refused, {} aborted, {} malformed",
                    c.tftp_done, c.tftp_refused, c.tftp_failed, c.tftp_malformed
                ),
            ),
            ("boot HTTP", format!("{} served, {} refused", c.http_served, c.http_refused)),
        ])
    });
    Ok(())
}
