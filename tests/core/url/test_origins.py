"""Sites: the hosts of an old site, its twins, and what the new site shares with it."""

from __future__ import annotations

import pytest

from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.core.url.origins import Site, Sites, group_origins, read_origin

OLD, NEW = "http://www.quillhaven.example", "https://www.quillhaven.example"
SHOP = "http://shop.quillhaven.example"
SITES = Sites(group_origins([OLD, "http://m.quillhaven.example", SHOP]), (NEW,))


@pytest.mark.parametrize(
    ("url", "site"),
    [
        ("http://www.quillhaven.example/x", "quillhaven.example"),
        ("https://quillhaven.example/x", "quillhaven.example"),
        ("http://m.quillhaven.example/", "quillhaven.example"),
        ("http://mobile.quillhaven.example/", "quillhaven.example"),
        ("http://amp.quillhaven.example/", "quillhaven.example"),
        ("https://www.shop.quillhaven.example/", "shop.quillhaven.example"),
        ("http://m.shop.quillhaven.example/", "shop.quillhaven.example"),
        ("http://quillhaven.example:443/", "quillhaven.example"),
        ("https://quillhaven.example:80/", "quillhaven.example"),
        ("http://quillhaven.example:8080/", ""),
        ("http://blog.quillhaven.example/", ""),
        ("https://elsewhere.example/", ""),
    ],
)
def test_a_host_belongs_to_its_site_with_its_twins(url: str, site: str) -> None:
    assert Sites(SITES.old, ("https://new.example",)).site_of(parse_address(url)) == site


def test_a_host_of_the_new_site_that_is_also_old_is_both_and_others_are_new_alone() -> None:
    both = Sites(group_origins([OLD]), (NEW, "https://new.example"))
    assert both.site_of(parse_address(NEW)) == "quillhaven.example"
    assert both.is_new(parse_address(f"{NEW}/x"))
    assert both.shared_origins("quillhaven.example") == (NEW,)
    apart = Sites(group_origins(["http://quillhaven.example"]), (NEW,))
    assert apart.site_of(parse_address(NEW)) == "", "a declared new host is no alias of the old one"
    assert apart.shared_origins("quillhaven.example") == ()
    assert apart.shared_origins("unknown.example") == ()
    assert not apart.is_new(parse_address("http://quillhaven.example/"))


def test_a_declared_port_is_a_site_of_its_own() -> None:
    sites = Sites(group_origins(["http://a.example:8080", "http://b.example:443"]), (NEW,))
    assert [s.name for s in sites.old] == ["a.example:8080", "b.example:443"]
    assert sites.site_of(parse_address("http://www.a.example:8080/")) == "a.example:8080"
    assert sites.site_of(parse_address("http://a.example/")) == ""
    declared = parse_address("http://b.example:443/x")
    assert sites.plain(declared) == declared
    other = parse_address("http://c.example:443/x")
    assert sites.plain(other) == other._replace(port="")
    strange = parse_address("http://c.example:81/x")
    assert sites.plain(strange) == strange


def test_a_number_or_a_name_without_dot_has_no_twins() -> None:
    sites = Sites(group_origins(["http://10.0.0.1", "http://[::1]", "http://intranet"]), (NEW,))
    assert sites.authorities_of("10.0.0.1") == ("10.0.0.1",)
    assert sites.authorities_of("[::1]") == ("[::1]",)
    assert sites.authorities_of("intranet") == (
        "amp.intranet", "intranet", "m.intranet", "mobile.intranet", "www.intranet",
    )  # fmt: skip
    numbered = Sites(group_origins(["http://10.0.0.1:81", "http://1.example"]), (NEW,))
    assert numbered.authorities_of("10.0.0.1:81") == ("10.0.0.1:81",)
    assert "www.1.example" in numbered.authorities_of("1.example")


def test_a_twin_that_the_new_site_declares_is_no_alias() -> None:
    sites = Sites(group_origins(["http://a.example"]), ("https://mobile.a.example",))
    assert sites.authorities_of("a.example") == (
        "a.example", "amp.a.example", "m.a.example", "www.a.example",
    )  # fmt: skip
    assert sites.authorities_of("b.example") == ()


def test_all_hosts_that_a_move_may_speak_to() -> None:
    assert SITES.hosts == frozenset(
        f"{label}{name}"
        for name in ("quillhaven.example", "shop.quillhaven.example")
        for label in ("", "www.", "m.", "mobile.", "amp.")
    )
    assert SITES.new_authorities == {"www.quillhaven.example"}


def test_origins_are_grouped_by_their_plain_host_in_the_order_given() -> None:
    grouped = group_origins(
        [OLD, "https://quillhaven.example", SHOP, OLD, "http://m.quillhaven.example/"]
    )
    assert grouped == (
        Site(
            "quillhaven.example", (OLD, "https://quillhaven.example", "http://m.quillhaven.example")
        ),
        Site("shop.quillhaven.example", (SHOP,)),
    )
    sites = Sites(grouped, (NEW,))
    assert sites.base_of("shop.quillhaven.example") == SHOP
    assert sites.base_of("quillhaven.example") == OLD
    assert group_origins(["http://www.m.a.example"])[0].name == "a.example"


@pytest.mark.parametrize(
    ("url", "origin"),
    [
        ("http://x.example:80/", "http://x.example"),
        ("HTTPS://X.example:8443", "https://x.example:8443"),
        ("x.example", "http://x.example"),
        ("http://u:p@x.example/#part", "http://x.example"),
    ],
)
def test_an_origin_is_read(url: str, origin: str) -> None:
    assert read_origin(url) == origin


@pytest.mark.parametrize("rest", ["/path", "/?query", "/a?b"])
def test_more_than_an_origin_is_refused_and_named(rest: str) -> None:
    with pytest.raises(NotAnAddressError) as refused:
        read_origin(f"http://x.example{rest}")
    assert str(refused.value) == (f"an origin is scheme, host and port only; {rest} is too much")
