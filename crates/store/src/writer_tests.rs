//! The writing thread, and those who wait for it or do not.

use super::{
    tests::{change, label},
    *,
};

/// Whoever stops waiting for a change changes nothing of it: it is on disk and shown alike, or neither.
#[tokio::test]
async fn a_caller_that_goes_away_leaves_disk_and_snapshot_alike() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("lastmile.sqlite")).unwrap();
    for number in 0..200_u32 {
        let waiting = change(&store, move |change| change.put_label(label(format!("label-{number}"))));
        // Polled some times, then dropped.
        let _ = tokio::time::timeout(std::time::Duration::from_micros(u64::from(number) * 7), waiting).await;
    }
    store.ping().await;
    change(&store, |_| Ok(())).await.unwrap();
    let kept = store.site().labels().count();
    assert!(kept > 0, "none was ever queued");
    assert_eq!(*store.site(), store.load().unwrap().site);
}

#[tokio::test]
async fn a_panic_of_a_change_ends_the_writer_and_says_so() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("lastmile.sqlite")).unwrap();
    let broken = change(&store, |_| panic!("a fault of the program"));
    assert!(matches!(broken.await, Err(StoreError::Closed)));
    tokio::time::timeout(std::time::Duration::from_secs(10), store.ended()).await.unwrap();
    assert!(matches!(change(&store, |_| Ok(())).await, Err(StoreError::Closed)));
}
