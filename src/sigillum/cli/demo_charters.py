"""The charters that the demo writes."""

CHARTER = """\
charter: wind-ingest
tenant: summit
purpose: Store wind readings from the mast stations
deputy: jon.askew@brindlemoor.example
review: 2027-03-01
ticket: OPS-311

identity:
  kind: service-account
  name: wind-ingest
  display: Wind readings ingest

grants:
  - {role: stream-writer, at: brindlemoor/sensing-prod, because: stores the readings}

credentials:
  - name: ingest-key
    kind: key-pair
    lasts: 90d
    limits: [stream.append, stream.read]        # narrower than the role, never wider
    consumers: [mast-gateway]

proofs:
  - {can: stream.append, at: brindlemoor/sensing-prod/streams/mast-test}
  - {can: stream.read, at: brindlemoor/sensing-prod/streams/mast-4, at_least: 3}
  - {cannot: stream.append, at: brindlemoor/sensing-test/streams/mast-4}
  - {cannot: stream.delete, at: brindlemoor/sensing-prod/streams/mast-4}
"""
SECOND = """\
  - {role: stream-reader, at: brindlemoor/cameras, for: 10m, because: aims the camera at mast 4}
"""
RELEASE = """\
charter: timetable-release
tenant: summit
purpose: Releases timetables to dev and test, and looks at prod
review: 2027-03-01

identity:
  kind: team
  name: timetable-release

services:
  - {service: timetable-boards, at: brindlemoor/timetable}

grants:
  - {role: board-publisher, at: brindlemoor/timetable, where: {stage: [dev, test]}, because: releases timetables}
  - {role: board-reader, at: brindlemoor/timetable}
"""
PUBLISHER = """\
charter: timetable-publisher
tenant: summit
purpose: Publishes timetables to dev and test
review: 2027-03-01

identity:
  kind: service-account
  name: timetable-publisher

member_of: [timetable-release]

credentials:
  - {name: publisher-key, kind: key-pair, lasts: 90d}

proofs:
  - {can: board.publish, at: brindlemoor/timetable/dev}
  - {can: board.publish, at: brindlemoor/timetable/test}
  - {can: board.read, at: brindlemoor/timetable/prod}
  - {cannot: board.publish, at: brindlemoor/timetable/prod}
"""
STATISTICS = """\
charter: visitor-statistics
tenant: summit
purpose: Visitors a day, for the supplier of the dashboard
review: 2027-03-01

identity:
  kind: service-account
  name: visitor-statistics
  location: alps-west                 # where the dashboard runs; the dataset lies there

services:
  - {service: warehouse, at: brindlemoor/visitors}

grants:
  - {role: dataset-reader, at: brindlemoor/visitors/counts}
  - {role: query-runner, at: brindlemoor/visitors}

credentials:
  - {name: statistics-key, kind: key-pair, lasts: 30d}

proofs:
  - {can: dataset.query, at: brindlemoor/visitors/counts, at_least: 2}
  - {cannot: stream.read, at: brindlemoor/sensing-prod/streams/mast-4}
"""
