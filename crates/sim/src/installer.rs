//! What an installer makes of its kernel parameters and its answer file.

use crate::SimError;

/// What a simulated installer takes from a preseed file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Orders {
    pub(crate) host_name: String,
    pub(crate) early_report: String,
    pub(crate) late_report: String,
    /// Where it says that it cannot go on, and why.
    pub(crate) failure: String,
    /// Where the new system says what it is.
    pub(crate) first_start: String,
    /// Where its log goes.
    pub(crate) log: Option<String>,
}

/// What it writes while it works.
pub(crate) const LOG: [&str; 4] = [
    "partman: the disk is partitioned",
    "base-installer: the base system is unpacked",
    "pkgsel: further packages are in place",
    "grub-installer: the boot loader is set up",
];

/// The address of the answer file among the kernel's parameters.
pub(crate) fn answers_url(parameters: &[String]) -> Result<&str, SimError> {
    let url = parameters.iter().find_map(|word| word.strip_prefix("url="));
    url.ok_or_else(|| SimError::Installer("no url= among the kernel's parameters".into()))
}

/// Reads a preseed file as far as a simulated installer needs it.
pub(crate) fn read(text: &str) -> Result<Orders, SimError> {
    // A line that ends in a backslash goes on in the next.
    let text = text.replace("\\\n", "");
    let value = |question: &str| {
        let lines = text.lines().filter_map(|line| line.strip_prefix("d-i "));
        let mut values = lines.filter_map(|line| {
            let (found, rest) = line.split_once(' ')?;
            (found == question).then(|| rest.split_once(' ').map_or("", |(_, value)| value))
        });
        let missing = || SimError::Installer(format!("the answer file does not answer {question}"));
        values.next().ok_or_else(missing)
    };
    // The report among what a command runs: the one that ends in this word.
    let report = |question: &str, stage: &str| {
        let command = value(question)?;
        let url = command.split('\'').find(|part| part.starts_with("http://") && part.ends_with(stage));
        let missing = || SimError::Installer(format!("{question} reports to nobody: {command}"));
        url.map(ToOwned::to_owned).ok_or_else(missing)
    };
    // In the order in which an installer comes to them: what lacks first is named.
    let host_name = value("netcfg/get_hostname")?.into();
    let early_report = report("preseed/early_command", "/started")?;
    let late_report = report("preseed/late_command", "/done")?;
    Ok(Orders {
        host_name,
        early_report,
        failure: late_report.replace("/done", "/failed"),
        first_start: late_report.replace("/done", "/booted"),
        late_report,
        log: report("preseed/early_command", "/log").ok(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn orders_are_read_and_what_lacks_is_named() {
        let text = "# x\nd-i netcfg/get_hostname string auklet-gate\n\
            d-i preseed/early_command string wget -O /dev/null 'http://192.0.2.2/report/t/started' || true\n\
            d-i preseed/late_command string wget -O /dev/null 'http://192.0.2.2/report/t/done' || true\n";
        let orders = read(text).unwrap();
        assert_eq!(orders.host_name, "auklet-gate");
        assert_eq!(orders.late_report, "http://192.0.2.2/report/t/done");
        assert_eq!(orders.first_start, "http://192.0.2.2/report/t/booted");
        let error = read("d-i netcfg/get_hostname string x\n").unwrap_err().to_string();
        assert!(error.contains("preseed/early_command"), "{error}");
    }
}
