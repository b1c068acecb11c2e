//! Texts that would exhaust memory, each ended with an error in bounded memory and time.

use minijinja::{Value, context};

use super::*;

const FUEL: u64 = 200_000;

fn values() -> Value {
    context! { big => "x".repeat(200_000), name => "auklet", labels => vec!["a", "b"], details => context! { n => "100000" } }
}

fn outcome(text: &str) -> Result<String, Error> {
    render(&environment(FUEL), text, &values(), Statements::Loops, MOST_BYTES)
}

#[test]
fn bombs_are_ended() {
    let doubling: String =
        (0..60).map(|n| format!("{{% set v{} = v{n} ~ v{n} %}}", n + 1)).collect::<String>();
    let lists: String = (0..60).map(|n| format!("{{% set v{} = [v{n}, v{n}] %}}", n + 1)).collect::<String>();
    let joined = vec!["big"; 4000].join(" ~ ");
    let bombs = [
        "{% macro m(a) %}{{ m(a ~ a) }}{% endmacro %}{{ m('x') }}".to_owned(),
        format!("{{% set v0 = 'x' %}}{doubling}{{{{ v60 }}}}"),
        format!("{{% set v0 = 'x' %}}{lists}{{{{ v60|string }}}}"),
        format!("{{% set v0 = 'x' %}}{lists}{{{{ v60 }}}}"),
        "{% set ns = namespace(a='x') %}{% for i in range(99) %}{% set ns.a = ns.a ~ ns.a %}{% endfor %}{{ ns.a }}".into(),
        "{% set a %}{% for i in range(9999) %}{{ big }}{% endfor %}{% endset %}{{ a }}".into(),
        "{% for i in range(99999) %}{{ big }}{% endfor %}".into(),
        "{{ 'x' * 100000000 }}".into(),
        "{{ ('x' * 99999999) ~ ('x' * 99999999) }}".into(),
        "{{ 10 ** 10 ** 10 }}".into(),
        "{{ range(100000)|join(big) }}".into(),
        "{{ big|replace('x', big) }}".into(),
        "{{ big|replace('', big) }}".into(),
        "{{ 'a\nb\nc'|indent(1000000000) }}".into(),
        "{{ [1]|batch(1000000000, 'x')|list }}".into(),
        "{{ [1]|slice(1000000000)|list }}".into(),
        "{{ range(1000)|map('default', big)|sum }}".into(),
        "{{ range(100000)|map('string')|join(big) }}".into(),
        "{{ '%999999999d'|format(1) }}".into(),
        "{% for x in [1, 2] recursive %}{{ loop([1, 2]) ~ loop([1, 2]) }}{% endfor %}".into(),
        "{% filter upper %}{% for i in range(9999) %}{{ big }}{% endfor %}{% endfilter %}".into(),
        "{% call m() %}{% endcall %}".into(),
        "{% include 'x' %}".into(),
        "{% import 'x' as x %}".into(),
        format!("{{{{ {joined} }}}}"),
        format!("{{{{ big{} }}}}", "|upper".repeat(4000)),
        format!("{{{{ {}1{} }}}}", "(".repeat(4000), ")".repeat(4000)),
        format!("{{{{ {}true }}}}", "not ".repeat(4000)),
        format!("{{{{ big{} }}}}", "[1:]".repeat(4000)),
        format!("{{{{ {}1 }}}}", "-".repeat(4000)),
        format!("{}{}", "{% if true %}".repeat(4000), "{% endif %}".repeat(4000)),
        "{% for a in range(100000) %}{% for b in range(100000) %}{% endfor %}{% endfor %}".into(),
        format!("{{{{ [{}]|tojson }}}}", vec!["big"; 50].join(",")),
        format!("{{{{ [{}]|string }}}}", vec!["big"; 50].join(",")),
    ];
    for bomb in bombs {
        let shown: String = bomb.chars().take(90).collect();
        assert!(outcome(&bomb).is_err(), "{shown} was rendered");
    }
}

#[test]
fn what_people_write_is_rendered() {
    for (text, expected) in [
        ("{{ name|upper }}-{{ labels|join('.') }}", "AUKLET-a.b"),
        (
            "{% for l in labels %}{{ loop.index }}{{ l }}{% if not loop.last %},{% endif %}{% endfor %}",
            "1a,2b",
        ),
        ("{%- set host = name ~ '.example' -%}\n{{ host }}", "auklet.example"),
        ("{% set a, b = 1, 2 %}{{ a + b }}", "3"),
        ("{# * macro #}{% raw %}{{ a * b }}{% endraw %}", "{{ a * b }}"),
        ("{{ 'a*b {% macro %}' }}", "a*b {% macro %}"),
        ("{{ 3|times(4) }}{{ 'a\nb'|indent(2) }}", "12a\n  b"),
        ("{{ {'a': 1}|tojson }}{{ -1 if 'a' in labels else 2 }}", "{\"a\":1}-1"),
        ("{{ details.n|int >= 5 }}{{ details.missing|default('no') }}", "Trueno"),
        ("{{ labels|map('upper')|list|length }}{{ 'x' is defined }}", "2True"),
    ] {
        assert_eq!(outcome(text).unwrap_or_else(|error| panic!("{text}: {error:#}")), expected);
    }
}
