//! What machines of one label have in common.

/// The rank of a label of which nobody says another.
pub const USUAL_RANK: i32 = 100;

/// What machines of one label have in common. A label that nothing is said of needs no such record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Label {
    /// Its name.
    pub name: String,
    /// Of several labels of one machine, what the one of the highest rank says is used.
    pub rank: i32,
    /// Kernel parameters of its machines.
    pub parameters: Vec<String>,
    /// Keys of the kernel parameters that its machines do without.
    pub without_parameters: Vec<String>,
    /// The menu its machines are shown, by name.
    pub menu: Option<String>,
    /// The image that its machines are armed with where nobody names another.
    pub image: Option<String>,
    /// The answers that they are armed with where nobody names others.
    pub answers: Option<String>,
}
