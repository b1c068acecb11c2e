//! A subnet drawn for a terminal: one character an address, and who has what.

use lastmile_api::{Holding, Picture, Span};

use crate::output::{Cell, columns};

/// Addresses on a line.
const LINE: u64 = 64;
/// Addresses that are drawn one by one; of larger networks the runs are listed.
const DRAWN: u64 = 1024;

/// The character that an address is drawn by.
const fn mark(holding: Holding) -> char {
    match holding {
        Holding::Fixed => '-',
        Holding::Excluded => 'x',
        Holding::Free => '.',
        Holding::Remembered => '~',
        Holding::Reserved => 'R',
        Holding::Offered => 'o',
        Holding::Leased => '#',
        Holding::Quarantined => '!',
        Holding::Server => 'S',
        Holding::Router => 'G',
        Holding::Own => '@',
        Holding::Network => '|',
    }
}

pub(super) fn text(picture: &Picture) -> String {
    let size: u64 = picture.spans.iter().map(Span::size).sum();
    let mut text = if size <= DRAWN { drawing(picture) } else { runs(picture) };
    text.push('\n');
    for holding in Holding::ALL.iter().copied() {
        if let Some(count) = picture.counts.get(&holding) {
            text.push_str(&format!("{}  {count} {}\n", mark(holding), holding.as_str()));
        }
    }
    let held = picture.spans.iter().filter(|span| span.who.is_some());
    let row = |span: &Span| {
        [
            Cell::from(span.first.to_string()),
            span.holding.as_str().into(),
            Cell::maybe(span.who.as_ref()),
            Cell::clock(span.until),
        ]
    };
    text.push('\n');
    text.push_str(&columns(["address", "kind", "owner", "until"], held.map(row)).text());
    text
}

fn drawing(picture: &Picture) -> String {
    let mut text = String::new();
    let mut place = 0;
    for span in &picture.spans {
        for step in 0..span.size() {
            if place % LINE == 0 {
                let address = span.first.to_bits() + u32::try_from(step).unwrap_or(0);
                text.push_str(&format!("{:15}  ", std::net::Ipv4Addr::from_bits(address)));
            } else if place % 8 == 0 {
                text.push(' ');
            }
            text.push(mark(span.holding));
            place += 1;
            if place % LINE == 0 {
                text.push('\n');
            }
        }
    }
    if place % LINE != 0 {
        text.push('\n');
    }
    text
}

fn runs(picture: &Picture) -> String {
    // What is somebody's stands below, one by one.
    let row = |span: &Span| {
        [
            span.first.to_string().into(),
            span.last.to_string().into(),
            span.size().to_string().into(),
            span.holding.as_str().into(),
        ]
    };
    let unheld = picture.spans.iter().filter(|span| span.who.is_none());
    columns(["first", "last", "addresses", "kind"], unheld.map(row)).text()
}
