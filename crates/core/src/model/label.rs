//! What machines of one label have in common.

/// What machines of one label have in common. A label that nothing is said of needs no such record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Label {
    /// Its name.
    pub name: String,
    /// Kernel parameters of its machines.
    pub parameters: Vec<String>,
    /// The menu its machines are shown, by name.
    pub menu: Option<String>,
}
