//! The packet guard (C3) against the kernel's own tables, in a network namespace of its own.

use crate::namespace::{in_own_network, run};
use karst_adapters::Guard;
use std::time::{Duration, Instant};

const PORT: u16 = 7411;

fn nft(words: &str) -> String {
    run("nft", words)
}

fn is_in(set: &str, element: &str) -> bool {
    nft(&format!("list set {set}"))
        .split_once("elements")
        .is_some_and(|(_, elements)| elements.contains(element))
}

fn gone_after(set: &str, element: &str) -> Duration {
    let begun = Instant::now();
    while is_in(set, element) {
        assert!(
            begun.elapsed() < Duration::from_secs(10),
            "{element} stays in {set}"
        );
        std::thread::yield_now();
    }
    begun.elapsed()
}

#[test]
fn what_is_open_expires_unless_it_is_renewed_and_deleted_tables_come_back() {
    if !in_own_network("what_is_open_expires_unless_it_is_renewed_and_deleted_tables_come_back") {
        return;
    }
    let (port, short) = (PORT.to_string(), Duration::from_millis(400));
    let mut guard = Guard::default();
    guard
        .open_for(PORT, Duration::from_secs(60))
        .expect("the port opens");
    assert!(is_in("inet karst guarded", &port) && is_in("inet karst open", &port));

    // A renewal sets the time, shorter or longer.
    let begun = Instant::now();
    guard.open_for(PORT, short).expect("a renewal");
    gone_after("inet karst open", &port);
    // The kernel counts in ticks, of 10 ms at most.
    let open = begun.elapsed() + Duration::from_millis(10);
    assert!(
        open >= short,
        "gone {:?} after it was opened for {short:?}",
        begun.elapsed()
    );
    assert!(
        is_in("inet karst guarded", &port),
        "what expired stays guarded"
    );
    guard.open_for(PORT, short).expect("opened again");
    guard
        .open_for(PORT, Duration::from_secs(60))
        .expect("a longer renewal");
    let begun = Instant::now();
    while begun.elapsed() < 2 * short {
        assert!(
            is_in("inet karst open", &port),
            "the first timeout is still in force"
        );
    }

    guard.close(PORT).expect("closed");
    assert!(!is_in("inet karst open", &port));
    guard.lift(PORT).expect("lifted");
    guard.lift(PORT).expect("lifted where nothing was guarded");
    assert!(!is_in("inet karst guarded", &port));

    for (ip, tables) in [
        ("10.9.8.7", vec!["inet karst", "arp karst"]),
        ("fd00::7", vec!["inet karst"]),
    ] {
        let n = if ip.contains(':') { 6 } else { 4 };
        let address = ip.parse().expect("an address");
        guard.hold(address).expect("held");
        guard
            .open_address(address, Duration::from_secs(60))
            .expect("opened");
        assert!(
            tables
                .iter()
                .all(|t| is_in(&format!("{t} held{n}"), ip) && is_in(&format!("{t} open{n}"), ip)),
            "{ip}"
        );
        guard.close_address(address).expect("closed");
        assert!(
            tables
                .iter()
                .all(|t| is_in(&format!("{t} held{n}"), ip) && !is_in(&format!("{t} open{n}"), ip)),
            "{ip}"
        );
    }

    // Somebody empties the whole rule set of the host.
    nft("flush ruleset");
    guard
        .open_for(PORT, Duration::from_secs(60))
        .expect("the tables are made again");
    assert!(is_in("inet karst guarded", &port) && is_in("inet karst open", &port));
}
