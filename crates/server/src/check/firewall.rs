//! The firewall of this host, as far as it can be seen.

use lastmile_api::Severity;
use serde_json::Value;
use tokio::process::Command;

use super::{Findings, Topic};
use crate::start::Listening;

/// A port that must be open.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Port {
    protocol: &'static str,
    number: u16,
    what: &'static str,
}

pub(super) async fn look(findings: &mut Findings, listening: &Listening) {
    let place = "nftables of this host";
    let output = Command::new("nft").args(["--json", "list", "ruleset"]).output().await;
    let rules = match output {
        Ok(output) if output.status.success() => serde_json::from_slice::<Value>(&output.stdout).ok(),
        _ => None,
    };
    let Some(rules) = rules else {
        let what = "cannot be seen: this takes the program `nft` and the right CAP_NET_ADMIN";
        let fix =
            "Look yourself: `nft list ruleset`. `lastmile subnet advice` lists the ports that must be open.";
        findings.add(Severity::Note, Topic::Firewall, place, what, fix);
        return;
    };
    let ports = ports(listening);
    let shut = shut(&rules, &ports);
    for (chain, port) in &shut {
        let Port { protocol, number, what } = port;
        findings.add(
            Severity::Fault,
            Topic::Firewall,
            chain,
            format!("{protocol} port {number} ({what}) is not let in, as far as the rules tell"),
            format!(
                "Let it in: `nft insert rule {chain} {} dport {number} accept`.",
                protocol.to_lowercase()
            ),
        );
    }
    if shut.is_empty() {
        let list: Vec<_> = ports.iter().map(|port| format!("{} {}", port.protocol, port.number)).collect();
        findings.good(Topic::Firewall, place, format!("nothing shuts out {}", list.join(", ")));
    }
}

fn ports(listening: &Listening) -> Vec<Port> {
    let mut ports = Vec::new();
    let mut add = |protocol, number, what| {
        let port = Port { protocol, number, what };
        if !ports.contains(&port) {
            ports.push(port);
        }
    };
    listening.dhcp.iter().for_each(|(_, address)| add("UDP", address.port(), "DHCP"));
    listening.relays.iter().for_each(|address| add("UDP", address.port(), "DHCP from relays"));
    listening.boot_server.iter().for_each(|address| add("UDP", address.port(), "PXE boot server"));
    listening.tftp.iter().for_each(|address| add("UDP", address.port(), "TFTP"));
    listening.http.iter().for_each(|address| add("TCP", address.port(), "boot HTTP"));
    listening.https.iter().for_each(|address| add("TCP", address.port(), "boot HTTPS"));
    ports
}

/// Every port that a chain of the input hook shuts out, with that chain (`family table chain`): it drops what no rule
/// lets in and no rule lets the port in, or a rule drops the port itself. Rules that jump elsewhere are not followed:
/// a chain with such a rule is taken to let in.
fn shut(ruleset: &Value, ports: &[Port]) -> Vec<(String, Port)> {
    let objects = ruleset["nftables"].as_array().map(Vec::as_slice).unwrap_or_default();
    let mut shut = Vec::new();
    for chain in objects.iter().map(|object| &object["chain"]).filter(|chain| chain["hook"] == "input") {
        let text = |key: &str| chain[key].as_str().unwrap_or_default();
        let name = format!("{} {} {}", text("family"), text("table"), text("name"));
        let rules: Vec<&Vec<Value>> = objects
            .iter()
            .map(|object| &object["rule"])
            .filter(|rule| rule["table"] == chain["table"] && rule["family"] == chain["family"])
            .filter(|rule| rule["chain"] == chain["name"])
            .filter_map(|rule| rule["expr"].as_array())
            .collect();
        for port in ports {
            // The first rule that is about the port, or about everything, decides.
            let verdict = rules.iter().find_map(|rule| verdict(rule, *port));
            if !verdict.unwrap_or(chain["policy"] != "drop") {
                shut.push((name.clone(), *port));
            }
        }
    }
    shut
}

/// Whether a rule lets a port in or drops it; `None` if it is about something else.
fn verdict(rule: &[Value], port: Port) -> Option<bool> {
    let last = rule.last()?.as_object()?;
    let lets_in = last.contains_key("accept") || last.contains_key("jump") || last.contains_key("goto");
    let drops = last.contains_key("drop") || last.contains_key("reject");
    if !lets_in && !drops {
        return None;
    }
    let matches: Vec<&Value> = rule.iter().filter_map(|expression| expression.get("match")).collect();
    let by_port = matches.iter().find(|matched| {
        let payload = &matched["left"]["payload"];
        payload["field"] == "dport"
            && (payload["protocol"] == port.protocol.to_lowercase() || payload["protocol"] == "th")
    });
    match by_port {
        Some(matched) => holds(&matched["right"], port.number).then_some(lets_in),
        // Conditions on something else: an accept for some is no accept for all, and so is a drop.
        None if matches.is_empty() => Some(lets_in),
        None => None,
    }
}

/// Whether a port number, a range or a set of them holds `port`.
fn holds(right: &Value, port: u16) -> bool {
    if let Some(number) = right.as_u64() {
        return number == u64::from(port);
    }
    if let Some(range) = right["range"].as_array() {
        let end = |index: usize| range.get(index).and_then(Value::as_u64).unwrap_or(u64::MAX);
        return (end(0)..=end(1)).contains(&u64::from(port));
    }
    right["set"].as_array().is_some_and(|set| set.iter().any(|entry| holds(entry, port)))
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    const TFTP: Port = Port { protocol: "UDP", number: 69, what: "TFTP" };
    const HTTP: Port = Port { protocol: "TCP", number: 80, what: "boot HTTP" };

    fn ruleset(policy: &str, rules: &[Value]) -> Value {
        let mut objects = vec![
            json!({ "metainfo": { "json_schema_version": 1 } }),
            json!({ "chain": { "family": "inet", "table": "filter", "name": "input", "hook": "input", "policy": policy } }),
        ];
        objects.extend(rules.iter().map(|expressions| {
            json!({ "rule": { "family": "inet", "table": "filter", "chain": "input", "expr": expressions } })
        }));
        json!({ "nftables": objects })
    }

    fn dport(protocol: &str, right: Value, verdict: &str) -> Value {
        let left = json!({ "payload": { "protocol": protocol, "field": "dport" } });
        json!([{ "match": { "op": "==", "left": left, "right": right } }, { verdict: null }])
    }

    fn shut_ports(rules: &Value) -> Vec<u16> {
        shut(rules, &[TFTP, HTTP]).into_iter().map(|(_, port)| port.number).collect()
    }

    #[test]
    fn what_no_rule_lets_in_is_shut_where_the_chain_drops() {
        let rules = [dport("udp", json!({ "set": [67, { "range": [68, 70] }] }), "accept")];
        assert_eq!(shut_ports(&ruleset("drop", &rules)), [80]);
        assert_eq!(shut_ports(&ruleset("accept", &rules)), Vec::<u16>::new());
        assert_eq!(shut_ports(&json!({ "nftables": [] })), Vec::<u16>::new());
    }

    #[test]
    fn the_first_rule_about_a_port_decides() {
        let rules = [dport("udp", json!(69), "drop"), dport("udp", json!(69), "accept")];
        assert_eq!(shut_ports(&ruleset("accept", &rules)), [69]);
        let everything = [json!([{ "accept": null }])];
        assert_eq!(shut_ports(&ruleset("drop", &everything)), Vec::<u16>::new());
        let of_another = [dport("tcp", json!(69), "drop")];
        assert_eq!(
            shut_ports(&ruleset("accept", &of_another)),
            Vec::<u16>::new(),
            "the port of the other protocol"
        );
    }
}
