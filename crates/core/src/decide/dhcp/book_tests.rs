use jiff::ToSpan;
use lastmile_formats::mac::Mac;
use proptest::prelude::*;

use super::*;
use crate::{decide::subnet::SubnetDraft, site::Site};

fn subnet(pool: &str) -> Subnet {
    let draft = SubnetDraft {
        pools: vec![pool.into()],
        interface: Some("eno1".into()),
        ..SubnetDraft::new("tern-bay", "192.0.2.0/24")
    };
    draft.check(Id::generate(), &Site::default(), &[]).unwrap()
}

fn offer(
    book: &mut LeaseBook,
    subnet: &Subnet,
    client: &ClientKey,
    wish: Option<Ipv4Addr>,
    now: Timestamp,
) -> Result<Ipv4Addr, NoAddress> {
    book.offer(subnet, Wanting { wish, ..newcomer(client) }, now).map(|offer| offer.address)
}

const fn newcomer(client: &ClientKey) -> Wanting<'_> {
    Wanting { client, registered: false, wish: None, reserved: None }
}

fn bind(
    book: &mut LeaseBook,
    subnet: &Subnet,
    client: &ClientKey,
    address: Ipv4Addr,
    now: Timestamp,
) -> Option<LeaseRecord> {
    book.bind(subnet, client, address, None, now)
}

fn client(number: u8) -> ClientKey {
    ClientKey::Mac(Mac::new([2, 0, 0x5e, 0, 0x53, number]).unwrap())
}

fn at(secs: i64) -> Timestamp {
    Timestamp::from_second(1_700_000_000 + secs).unwrap()
}

#[test]
fn an_offer_becomes_a_lease_and_stays_with_its_client() {
    let subnet = subnet("192.0.2.50-192.0.2.59");
    let mut book = LeaseBook::default();
    let address = offer(&mut book, &subnet, &client(1), None, at(0)).unwrap();
    assert_eq!(book.holder(address, at(0)), None, "an offer is no lease");
    let record = bind(&mut book, &subnet, &client(1), address, at(1)).unwrap();
    assert_eq!(record.until, at(1) + 8.hours());
    assert_eq!(book.holder(address, at(2)), Some(&client(1)));
    // Long after it ran out, and with others about, the client finds its address again.
    let later = 9 * 3600;
    for number in 2..9 {
        let other = offer(&mut book, &subnet, &client(number), None, at(later)).unwrap();
        assert_ne!(other, address, "a never used address goes first");
    }
    assert_eq!(offer(&mut book, &subnet, &client(1), None, at(later)).unwrap(), address);
}

#[test]
fn a_full_pool_says_so_and_frees_up() {
    let subnet = subnet("192.0.2.50-192.0.2.51");
    let mut book = LeaseBook::default();
    for number in 1..=2 {
        let address = offer(&mut book, &subnet, &client(number), None, at(0)).unwrap();
        bind(&mut book, &subnet, &client(number), address, at(0)).unwrap();
    }
    let full = offer(&mut book, &subnet, &client(3), None, at(5)).unwrap_err();
    assert_eq!(full.to_string(), "every address of subnet 'tern-bay' is held: 2 in its pools");
    let held = book.of_client(subnet.id, &client(2)).unwrap().address;
    book.release(&client(2), held, at(6)).unwrap();
    assert_eq!(offer(&mut book, &subnet, &client(3), None, at(7)).unwrap(), held);
}

#[test]
fn nobody_takes_what_another_holds() {
    let subnet = subnet("192.0.2.50-192.0.2.59");
    let mut book = LeaseBook::default();
    let address = offer(&mut book, &subnet, &client(1), None, at(0)).unwrap();
    assert!(bind(&mut book, &subnet, &client(2), address, at(1)).is_none(), "offered to another");
    bind(&mut book, &subnet, &client(1), address, at(1)).unwrap();
    assert!(book.release(&client(2), address, at(2)).is_none());
    assert!(book.decline(&client(2), address, at(2)).is_none());
    assert!(bind(&mut book, &subnet, &client(1), "192.0.2.7".parse().unwrap(), at(2)).is_none(), "no pool");
}

#[test]
fn a_declined_address_is_left_alone() {
    let subnet = subnet("192.0.2.50-192.0.2.51");
    let mut book = LeaseBook::default();
    let address = offer(&mut book, &subnet, &client(1), None, at(0)).unwrap();
    bind(&mut book, &subnet, &client(1), address, at(0)).unwrap();
    book.decline(&client(1), address, at(1)).unwrap();
    let second = offer(&mut book, &subnet, &client(1), Some(address), at(2)).unwrap();
    assert_ne!(second, address);
    assert!(bind(&mut book, &subnet, &client(1), address, at(3)).is_none());
    bind(&mut book, &subnet, &client(1), second, at(3)).unwrap();
    assert_eq!(offer(&mut book, &subnet, &client(2), None, at(3700)).unwrap(), address, "after an hour");
}

#[test]
fn offers_that_nobody_takes_are_swept() {
    let subnet = {
        let mut draft = SubnetDraft::new("hall", "10.0.0.0/16");
        draft.pools = vec!["10.0.1.0-10.0.250.250".into()];
        draft.interface = Some("eno1".into());
        draft.check(Id::generate(), &Site::default(), &[]).unwrap()
    };
    let mut book = LeaseBook::default();
    let flood = |book: &mut LeaseBook, from: u16, second: i64| {
        for number in from..from + 3000 {
            let [high, low] = number.to_be_bytes();
            let stranger = ClientKey::Mac(Mac::new([2, 1, 0, 0, high, low]).unwrap());
            offer(book, &subnet, &stranger, None, at(second)).unwrap();
        }
    };
    let mine = offer(&mut book, &subnet, &client(1), None, at(0)).unwrap();
    bind(&mut book, &subnet, &client(1), mine, at(0)).unwrap();
    flood(&mut book, 0, 1);
    // Two minutes later those of the first flood are forgotten, and the lease is not.
    flood(&mut book, 3000, 121);
    assert!(book.iter().count() <= 3001 + SWEEP_AT, "{} records are kept", book.iter().count());
    assert_eq!(book.holder(mine, at(121)), Some(&client(1)));
}

proptest! {
    /// Whatever clients do in whatever order, no address is held by two of them.
    #[test]
    fn no_address_is_ever_held_twice(
        steps in proptest::collection::vec((0_u8..12, 0_u8..5, 0_i64..4000), 1..200)
    ) {
        let subnet = subnet("192.0.2.50-192.0.2.57");
        let mut book = LeaseBook::default();
        let mut granted: HashMap<Ipv4Addr, (ClientKey, Timestamp)> = HashMap::new();
        let mut now = 0;
        for (number, action, wait) in steps {
            now += wait;
            let who = client(number + 1);
            match action {
                0 | 1 => {
                    let _ = offer(&mut book, &subnet, &who, None, at(now));
                }
                2 => {
                    let address = book.of_client(subnet.id, &who).map(|record| record.address);
                    if let Some(record) = address.and_then(|a| bind(&mut book, &subnet, &who, a, at(now))) {
                        if let Some((holder, until)) = granted.get(&record.address) {
                            prop_assert!(*holder == who || *until <= at(now), "{} held twice", record.address);
                        }
                        granted.retain(|_, (holder, _)| *holder != who);
                        granted.insert(record.address, (who, record.until));
                    }
                }
                action => {
                    let held = granted.iter().find(|(_, (holder, _))| *holder == who).map(|(a, _)| *a);
                    if let Some(address) = held {
                        let done = if action == 3 {
                            book.release(&who, address, at(now))
                        } else {
                            book.decline(&who, address, at(now))
                        };
                        if done.is_some() {
                            granted.remove(&address);
                        }
                    }
                }
            }
        }
    }
}

#[test]
fn a_reserved_address_is_for_one_client_and_the_only_one_it_gets() {
    let subnet = subnet("192.0.2.50-192.0.2.51");
    let reserved = Ipv4Addr::new(192, 0, 2, 20);
    let mut book = LeaseBook::default();
    let one = client(1);
    let wanting = Wanting { reserved: Some(reserved), ..newcomer(&one) };
    let elsewhere = Ipv4Addr::new(192, 0, 2, 50);
    let first = book.offer(&subnet, Wanting { wish: Some(elsewhere), ..wanting }, at(0)).unwrap();
    assert_eq!(first, Offer { address: reserved, fresh: true });
    assert!(book.bind(&subnet, &client(1), reserved, Some(reserved), at(0)).is_some());
    let again = book.offer(&subnet, wanting, at(1)).unwrap();
    assert_eq!(again, Offer { address: reserved, fresh: false }, "its own running lease needs no trying");
    assert_eq!(book.bind(&subnet, &client(2), reserved, None, at(1)), None, "it is in no pool");
    assert_eq!(
        book.bind(&subnet, &client(1), elsewhere, Some(reserved), at(1)),
        None,
        "it has one of its own"
    );
    let taken = book.offer(&subnet, Wanting { client: &client(3), ..wanting }, at(2)).unwrap_err();
    assert!(taken.to_string().contains("02:00:5e:00:53:01 holds it"), "{taken}");
}

#[test]
fn an_address_found_in_use_is_left_alone_and_can_be_freed() {
    let subnet = subnet("192.0.2.50-192.0.2.50");
    let mut book = LeaseBook::default();
    let address = offer(&mut book, &subnet, &client(1), None, at(0)).unwrap();
    assert_eq!(book.quarantine(address, at(0)).unwrap().state, LeaseState::Quarantined);
    assert!(offer(&mut book, &subnet, &client(1), None, at(1)).is_err(), "not even for the same client");
    book.free(address, at(2)).unwrap();
    assert_eq!(offer(&mut book, &subnet, &client(2), None, at(2)), Ok(address));
}

#[test]
fn an_address_that_is_freed_takes_nothing_from_the_client_that_had_it() {
    let subnet = subnet("192.0.2.50-192.0.2.59");
    let mut book = LeaseBook::default();
    let first = offer(&mut book, &subnet, &client(1), None, at(0)).unwrap();
    bind(&mut book, &subnet, &client(1), first, at(0)).unwrap();
    book.decline(&client(1), first, at(1)).unwrap();
    let second = offer(&mut book, &subnet, &client(1), None, at(2)).unwrap();
    bind(&mut book, &subnet, &client(1), second, at(2)).unwrap();
    book.free(first, at(3)).unwrap();
    assert_eq!(book.holder(second, at(4)), Some(&client(1)));
    assert_eq!(book.of_client(subnet.id, &client(1)).unwrap().address, second);
}

#[test]
fn a_full_pool_gives_the_address_that_is_free_for_longest() {
    let subnet = subnet("192.0.2.50-192.0.2.52");
    let mut book = LeaseBook::default();
    for number in 1..=3 {
        let address = offer(&mut book, &subnet, &client(number), None, at(0)).unwrap();
        bind(&mut book, &subnet, &client(number), address, at(0)).unwrap();
    }
    assert!(matches!(
        offer(&mut book, &subnet, &client(4), None, at(1)),
        Err(NoAddress::PoolsFull { size: 3, .. })
    ));
    let of = |book: &LeaseBook, number| book.of_client(subnet.id, &client(number)).unwrap().address;
    let (second, third) = (of(&book, 2), of(&book, 3));
    book.release(&client(3), third, at(5)).unwrap();
    book.release(&client(2), second, at(9)).unwrap();
    assert_eq!(offer(&mut book, &subnet, &client(4), None, at(10)), Ok(third));
    assert_eq!(offer(&mut book, &subnet, &client(5), None, at(10)), Ok(second));
}

#[test]
fn newcomers_that_only_ask_keep_no_address_from_registered_machines() {
    let subnet = subnet("192.0.2.50-192.0.2.52");
    let mut book = LeaseBook::default();
    let bound = offer(&mut book, &subnet, &client(1), None, at(0)).unwrap();
    bind(&mut book, &subnet, &client(1), bound, at(0)).unwrap();
    let first = offer(&mut book, &subnet, &client(2), None, at(1)).unwrap();
    let second = offer(&mut book, &subnet, &client(3), None, at(2)).unwrap();
    assert!(
        offer(&mut book, &subnet, &client(4), None, at(3)).is_err(),
        "newcomers do not take from each other"
    );

    let registered = |number: u8, book: &mut LeaseBook| {
        book.offer(&subnet, Wanting { registered: true, ..newcomer(&client(number)) }, at(4))
    };
    assert_eq!(
        registered(5, &mut book),
        Ok(Offer { address: first, fresh: true }),
        "the oldest offer gives way"
    );
    assert_eq!(registered(6, &mut book), Ok(Offer { address: second, fresh: true }));
    assert!(registered(7, &mut book).is_err(), "leases and registered machines' offers do not give way");
    assert!(offer(&mut book, &subnet, &client(2), None, at(5)).is_err());
    assert_eq!(bind(&mut book, &subnet, &client(2), first, at(5)), None, "its request is refused");
    assert!(bind(&mut book, &subnet, &client(5), first, at(5)).is_some());
}

#[test]
fn an_address_that_is_reserved_after_it_was_offered_goes_to_whom_it_is_reserved_for() {
    let subnet = subnet("192.0.2.50-192.0.2.50");
    let mut book = LeaseBook::default();
    let address = offer(&mut book, &subnet, &client(1), None, at(0)).unwrap();
    let (owner, reserved) = (client(2), Some(address));
    let offered = book.offer(&subnet, Wanting { reserved, ..newcomer(&owner) }, at(1));
    assert_eq!(offered, Ok(Offer { address, fresh: true }));
    assert_eq!(bind(&mut book, &subnet, &client(1), address, at(2)), None);
    assert!(book.bind(&subnet, &owner, address, reserved, at(2)).is_some());
}

/// One thing that happens to a book.
#[derive(Debug, Clone)]
enum Happens {
    Offer(u8),
    Bind(u8),
    Release(u8),
    Decline(u8),
    Free(u8),
    Pass(i64),
}

fn happens() -> impl Strategy<Value = Happens> {
    prop_oneof![
        (1..9_u8).prop_map(Happens::Offer),
        (1..9_u8).prop_map(Happens::Bind),
        (1..9_u8).prop_map(Happens::Bind),
        (1..9_u8).prop_map(Happens::Release),
        (1..9_u8).prop_map(Happens::Decline),
        (0..6_u8).prop_map(Happens::Free),
        (1..20_000_i64).prop_map(Happens::Pass),
    ]
}

proptest! {
    /// Whatever happens, and in whatever order what was kept is read after a restart: no address has two holders, and the
    /// book is what it was but for offers.
    #[test]
    fn a_restart_loses_nothing(
        all in proptest::collection::vec(happens(), 1..80),
        order in any::<u64>(),
    ) {
        let subnet = subnet("192.0.2.50-192.0.2.54");
        let mut book = LeaseBook::default();
        let mut kept: HashMap<Ipv4Addr, LeaseRecord> = HashMap::new();
        let mut now = at(0);
        for what in all {
            let record = match what {
                Happens::Offer(number) => {
                    let _ = offer(&mut book, &subnet, &client(number), None, now);
                    None
                }
                Happens::Bind(number) => {
                    let address = offer(&mut book, &subnet, &client(number), None, now);
                    address.ok().and_then(|address| bind(&mut book, &subnet, &client(number), address, now))
                }
                Happens::Release(number) => {
                    let of = book.of_client(subnet.id, &client(number)).map(|record| record.address);
                    of.and_then(|address| book.release(&client(number), address, now))
                }
                Happens::Decline(number) => {
                    let of = book.of_client(subnet.id, &client(number)).map(|record| record.address);
                    of.and_then(|address| book.decline(&client(number), address, now))
                }
                Happens::Free(place) => book.free(Ipv4Addr::new(192, 0, 2, 50 + place), now),
                Happens::Pass(seconds) => { now += seconds.seconds(); None }
            };
            kept.extend(record.map(|record| (record.address, record)));
        }
        let mut shuffled: Vec<LeaseRecord> = kept.into_values().collect();
        shuffled.sort_by_key(|record| (u64::from(record.address.to_bits()) ^ order).wrapping_mul(0x9e37_79b9_7f4a_7c15));
        let again = LeaseBook::new(shuffled);
        for number in 1..9 {
            let held = |book: &LeaseBook| book.iter()
                .filter(|record| record.client == client(number) && record.state == LeaseState::Bound && record.until > now)
                .map(|record| record.address).collect::<Vec<_>>();
            prop_assert!(held(&book).len() <= 1, "{number} holds {:?}", held(&book));
            prop_assert_eq!(held(&book), held(&again));
        }
        for address in (50..55).map(|last| Ipv4Addr::new(192, 0, 2, last)) {
            prop_assert_eq!(book.holder(address, now), again.holder(address, now));
        }
    }
}
