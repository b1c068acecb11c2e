//! Who logs in to a controller.

use zeroize::Zeroizing;

/// An account of a controller's.
#[derive(Clone)]
pub struct Account {
    /// The user's name.
    pub user: String,
    /// The password. It is not shown, and is wiped from memory when it is not needed any more.
    pub password: Zeroizing<String>,
}

impl std::fmt::Debug for Account {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Account").field("user", &self.user).finish_non_exhaustive()
    }
}
