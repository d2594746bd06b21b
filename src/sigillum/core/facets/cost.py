"""The facet *cost*: what a wanted service, licence or machine costs, who pays, and where it is free. It makes nothing."""

from __future__ import annotations

from sigillum.core.facets.draft import Draft
from sigillum.core.facets.facet import Facet
from sigillum.core.facets.seen import Seen
from sigillum.core.kinds.access import PLACE
from sigillum.core.kinds.kind import Query
from sigillum.core.kinds.machines import MACHINE
from sigillum.core.kinds.profile import Price
from sigillum.core.values.text import lines

NAME = "cost"


def compare(seen: Seen, draft: Draft) -> None:
    """Say it beforehand, with the day on which the tenant's prices were looked at last."""
    charter, billing = seen.charter, seen.charter.billing
    wanted = [(w.service, w.at, "") for w in charter.services] + ([(charter.licence, "", "")] if charter.licence else [])
    for name, at, size in (*wanted, *_machines(seen)):
        price = next((p for p in seen.profile.prices if p.of == name and size in ("", p.size)), None)
        payer, location = _around(seen, at)
        if price is not None:
            _note(seen, draft, price, at, payer, location)
        if billing and at and payer and payer != billing:
            draft.note(
                "cost-payer",
                f"{name} at {at} is paid by {payer}, and the charter says {billing}: attach that one "
                "to the place, or correct the charter",
            )
        elif billing and at and not payer:
            draft.note("cost-payer", f"no billing account is shown for {at}, and the charter says {billing}")


def _machines(seen: Seen) -> list[tuple[str, str, str]]:
    """The machine to which the identity is attached: where it stands, and of which size it is."""
    want = seen.charter.signing
    if want is None or not seen.profile.prices or seen.carried(MACHINE) is None:
        return []
    return [(MACHINE.name, r.body.place, r.body.size) for r in seen.ask(Query(MACHINE, "name", want.machine)).records]


def _around(seen: Seen, at: str) -> tuple[str, str]:
    """The billing account and the location of a place: its own, or those of the nearest one above it."""
    above = [r.body for path in lines([at]) for r in seen.ask(Query(PLACE, "path", path)).records] if at else []
    nearest = sorted(above, key=lambda p: -len(p.path))
    return (next((p.billing for p in nearest if p.billing), ""), next((p.location for p in nearest if p.location), ""))


def _note(seen: Seen, draft: Draft, price: Price, at: str, payer: str, location: str) -> None:
    where = f" at {at}" if at else ""
    checked = f", as of {price.checked}" if price.checked else ""
    if location and location in price.free_in:
        draft.note("cost-free", f"{price.of}{where} is free in {location}{checked}", warning=False)
        return
    size = f" in the size {price.size}" if price.size else ""
    paid = (
        f", paid by the billing account {payer}"
        if payer
        else ", paid by whoever pays for this tenant"
        if not at
        else ", and which billing account pays is not shown"
    )
    near = _nearest(seen.profile.locations, location, price.free_in)
    free = f"; the nearest place where it is free is {near}" if near else ""
    draft.note("cost", f"{price.of}{where} costs {price.price}{size}{paid}{free}{checked}", warning=False)


def _nearest(locations: tuple[str, ...], here: str, free: tuple[str, ...]) -> str:
    """Of the locations where it is free, the one that stands nearest in the tenant's own row of them."""
    if not free:
        return ""
    known = {name: number for number, name in enumerate(locations)}
    start = known.get(here, 0)
    return min(free, key=lambda name: (abs(known.get(name, len(known)) - start), name))


FACET = Facet(NAME, compare)
