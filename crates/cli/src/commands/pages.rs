//! Lists that the service gives a page at a time.

/// The most that the service gives at once.
const PAGE: u32 = 1000;

/// Reads pages until there is no more, or `limit` is reached. `read` is told how many are wanted and after how many; it gives them, and
/// how many there are in all.
pub(super) async fn all<T, E>(
    limit: Option<u32>,
    read: impl AsyncFn(u32, u32) -> Result<(Vec<T>, usize), E>,
) -> Result<Vec<T>, E> {
    let most = limit.unwrap_or(u32::MAX) as usize;
    let mut all = Vec::new();
    loop {
        let left = u32::try_from(most - all.len()).unwrap_or(u32::MAX);
        let (page, total) = read(left.min(PAGE), u32::try_from(all.len()).unwrap_or(u32::MAX)).await?;
        let is_last = page.is_empty();
        all.extend(page);
        if is_last || all.len() >= most || all.len() >= total {
            return Ok(all);
        }
    }
}
