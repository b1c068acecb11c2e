//! The API's contract is a reviewed file. A change of a route or a type shows here first.

/// To accept a change: `LASTMILE_ACCEPT=1 cargo test -p lastmile-server --test openapi`, then review the file.
#[test]
fn the_routes_are_what_the_contract_says() {
    let made = lastmile_server::openapi() + "\n";
    if std::env::var_os("LASTMILE_ACCEPT").is_some() {
        std::fs::write("../api/openapi.json", &made).unwrap();
        return;
    }
    assert!(
        made == lastmile_api::OPENAPI,
        "the API is not what crates/api/openapi.json says; run `make contract` and review the difference"
    );
}
