//! What to enter in somebody else's DHCP server, ready to read out.

use lastmile_api::Advice;

use crate::output::{columns, or_dash};

pub(super) fn text(advice: &Advice) -> String {
    let mut text = String::new();
    for remark in &advice.remarks {
        text.push_str(&format!("{remark}\n"));
    }
    for row in &advice.rows {
        text.push_str(&format!("\n{}\n", row.architecture));
        text.push_str(&format!("  if             {}\n", row.clients));
        text.push_str(&format!("  next server    {}\n", or_dash(row.next_server)));
        text.push_str(&format!("  boot file      {}\n", row.boot_file));
        for option in &row.options {
            text.push_str(&format!("  option {:<7} {}\n", option.code, option.value));
        }
    }
    text.push_str("\nThe firewall must let through\n");
    let rows = advice
        .ports
        .iter()
        .map(|port| [&port.protocol, &port.from, &port.to, &port.purpose].map(|text| text.clone().into()));
    text.push_str(&columns(["protocol", "from", "to", "purpose"], rows).text());
    text
}
