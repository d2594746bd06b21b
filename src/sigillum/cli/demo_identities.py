"""What the demo writes for its identities: charters, a consumer, the facts of a tenant by hand, answers."""

from __future__ import annotations

KAI = "kai.lund@brindlemoor.example"
MAILER = f"""\
charter: avalanche-mailer
tenant: roster
purpose: Sends avalanche warnings for the snow watch
review: 2027-03-01

identity:
  kind: client
  name: avalanche-mailer
  display: Avalanche mailer
  usable_in: any-tenant               # it acts in summit, too
  redirects: ["https://mailer.railway.example/back"]

permissions:
  - {{api: mail, scopes: [mail.send], acts: on-behalf, only: [brindlemoor/mailboxes/warnings]}}

grants:
  - {{role: stream-reader, at: brindlemoor/sensing-prod, in: summit}}

credentials:
  - {{name: mailer-secret, kind: shared-secret, lasts: 90d, consumers: [mail-desk]}}

proofs:
  - {{can: mail.send, at: brindlemoor/mailboxes/warnings, on_behalf_of: {KAI}}}
  - {{cannot: mail.send, at: brindlemoor/mailboxes/board, on_behalf_of: {KAI}}}
  - {{can: stream.read, at: brindlemoor/sensing-prod/streams/mast-4, in: summit, at_least: 3}}
  - {{cannot: stream.append, at: brindlemoor/sensing-prod/streams/mast-4, in: summit}}

handover:
  to: mail-desk
"""
CONSUMER = """\
consumers:
  mail-desk:
    asks:
      - {value: client_id, as: APP_ID, form: '[0-9a-f]{16}'}
      - {value: secret, as: APP_SECRET, shortest: 20}
      - {value: token_endpoint, as: TOKEN_URL}
      - {value: ends, as: UNTIL}
      - {value: person, as: TRY_FOR}
tenants:
"""
ASKED = "    admins: [{name: nils.brack, powers: [consents, rules], contact: nils.brack@brindlemoor.example}]\n"
ACTS = "    admins: [{name: nils.brack, token: 'file:.sigillum/sandbox/roster.nils.brack.token'}]\n"
FEED = """\
charter: pass-desk-feed
tenant: ticketry
purpose: Reads how many passes were sold, for the visitor numbers
review: 2027-03-01

identity: {kind: service-account, display: Pass desk feed, web_only: true}

grants:
  - {role: feed-reader, at: ticketry/passes}
  - {role: feed-reader, at: ticketry/trial-desk, because: what it cannot do there is shown beside what it can}

credentials:
  - {name: feed-password, kind: password, lasts: 180d}

proofs:
  - {can: pass.read, at: ticketry/passes, at_least: 2}
  - {can: pass.read, at: ticketry/trial-desk}
  - {cannot: pass.sell, at: ticketry/trial-desk}
"""
PIPELINE = """\
charter: timetable-token
tenant: winch
purpose: Publishes timetables from the pipeline
review: 2027-03-01

identity: {kind: service-account, name: timetable-publisher, area: winch/timetables}

member_of: [publishers]

credentials:
  - {name: pipeline-token, kind: api-token, lasts: 60d, limits: [timetable.publish]}

proofs:
  - {can: timetable.publish, at: winch/timetables/test}
  - {cannot: timetable.read, at: winch/timetables/prod}
  - {cannot: release.approve, at: winch/timetables/prod}
"""
ROBOT = """\
charter: night-robot
tenant: roster
purpose: Sends the list of closed lifts at night
review: 2027-03-01

identity: {kind: service-account, display: Night robot, mailbox: true}

licence: mail-seat

grants:
  - {role: mailbox-user, at: brindlemoor/mailboxes/trial, because: sends the list}

credentials:
  - {name: robot-password, kind: password, lasts: 180d}

proofs:
  - {can: mail.read, at: brindlemoor/mailboxes/trial}
"""
EXEMPT = """
sign_in:
  networks: [127.0.0.0/8]             # this machine
  exempt: {rule: house-default, accepted_by: mara.teel@brindlemoor.example, why: nobody is there, review: 2027-06-01}
"""
ROPES = """\
charter: rope-stock
tenant: depot
purpose: Reads how much rope is in stock
review: 2027-03-01

identity: {kind: service-account, display: Rope stock}

grants:
  - {role: stock-reader, at: depot/ropes}

credentials:
  - {name: stock-token, kind: api-token, lasts: 90d}

proofs:
  - {can: stock.read, at: depot/ropes}
  - {cannot: stock.book, at: depot/ropes}
"""


def facts(day: str) -> tuple[tuple[str, str], ...]:
    """The facts of the depot, as somebody exported them on that day."""
    head = f"# source: export of the depot's own pages\n# date: {day}\n"
    return (
        ("facts/depot/accounts.csv", head + "id,name,display,active,purpose,owner\n"
         "17,parts-scanner,Parts scanner,yes,Scans parts,ines.vole@brindlemoor.example\n"),
        ("facts/depot/roles.csv", head + "id,name,permissions\n1,stock-reader,stock.read=looks\n2,stock-clerk,stock.read=looks "
         "stock.book=changes-data\n"),
        ("facts/depot/places.csv", head + "id,path,kind\n1,depot,site\n2,depot/ropes,store\n"),
        ("facts/depot/grants.csv", head + "id,principal,role,place\n"),
        ("facts/depot/credentials.csv", head + "id,principal,name,kind\n"))


ANSWERS = """\
make account rope-stock: {id: "31", by: ines.vole}
make grant stock-reader at depot/ropes: {id: "88", by: ines.vole}
make credential stock-token: {id: "12", by: ines.vole}
secret of credential stock-token: {secret: "file:.sigillum/stock.secret", by: ines.vole}
may stock.read at depot/ropes: {yes: true, by: ines.vole}
may stock.book at depot/ropes: {yes: false, by: ines.vole}
"""
STOCK_SECRET = "made-up-token-of-the-depot"  # noqa: S105  (the demo's own)
