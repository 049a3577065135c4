"""What is set at Northmere Ferries, with every fault of a real organisation placed on purpose (described in
docs/demo.md).
"""

from __future__ import annotations

ORGANISATION = """\
usher-gate: snapshot/1
name: Northmere Ferries
taken_at: 2026-11-20T06:00:00Z
domains: [northmere.example]
privileged_roles: [directory-admin, meeting-admin]
second_factor_default: off
networks:
  head-office: [192.0.2.0/25, "2001:db8:10::/48"]
  terminals: [198.51.100.0/24]
  ticket-hall: [198.51.100.64/26]
resources:
  directory-console: [admin]
  meeting-console: [admin]
  meetings: []
  cargo-portal: []
  timesheets: []
controls:
  - {id: dock.camera, title: Camera at the dock door, kind: flag, strict: "on",
     weak: No one sees who came aboard.}
"""

SERVICES = """\
usher-gate: services/1
services:
  # Meetings: switches at the organisation, at groups and at persons, each of which may be pinned.
  - id: tidecall
    title: Tidecall meetings
    accounts: {not: {kind: service}}
    precedence: [organisation, group, person]
    settle_hours: 24
    supports: ["door.*", "room.*", "line.*", dock.camera]
    factory:
      door.waiting-room: everyone
      door.identity: anyone
      door.host-first: "off"
      door.anonymous-join: "on"
      door.passcode-scheduled: "off"
      door.passcode-instant: "off"
      door.personal-room: "on"
      door.passcode-personal-room: "off"
      door.passcode-telephone: "off"
      door.telephone-waits: "off"
      door.passcode-length: 4
      door.fresh-id: "on"
      door.start: everyone
      door.close: "on"
      door.may-start: "on"
      door.passcode-in-link: "on"
      door.passcode-composition: digits
      door.refused-domains: []
      room.share-screen: everyone
      room.recording: everyone
      room.streaming: "on"
      room.anonymous-apps: "off"
      room.removal: "on"
      room.co-hosts: everyone
      room.muted-on-entry: "on"
      room.camera-on-entry: "off"
      line.encryption: transport
      line.dial-in: "on"
      line.browser: "on"
      line.room-systems: "on"
      line.room-systems-encrypt: "on"
    self_service: [door.waiting-room, door.passcode-scheduled, room.share-screen]
    needs:
      line.encryption: {licences: [plus], without: transport}
      room.streaming: {licences: [plus, standard], without: "off"}
  # Chat and files: named sets of settings, given to groups; the set with the lowest rank counts.
  - id: quaychat
    title: Quaychat messages and files
    accounts: {not: {kind: service}}
    precedence: [organisation, group]
    settle_hours: 4
    supports: ["contact.*", "app.*", "file.*", "team.*", "guest.*", "call.*"]
    factory:
      contact.outside-domains: any
      contact.unmanaged-accounts: "on"
      contact.consumer-networks: "off"
      app.third-party: any
      app.home-made: any
      file.guest-resharing: "on"
      file.link-scanning: "on"
      file.attachment-scanning: "on"
      file.sensitive-data-guard: "off"
      team.create-teams: members
      team.create-groups: members
      guest.directory-view: everything
      guest.invite: anyone
      call.forwarding-outside: "on"
    self_service: []
    needs:
      file.sensitive-data-guard: {licences: [standard, plus]}
  # Broadcasts: one value for each unit, and whatever a unit does not say comes from above.
  - id: beaconcast
    title: Beaconcast broadcasts
    accounts: {kind: member}
    precedence: [organisation, unit]
    settle_hours: 12
    supports: ["broadcast.*", door.identity, door.waiting-room]
    factory:
      broadcast.audience: public
      broadcast.registration: "off"
      broadcast.webinar-audience: public
      door.waiting-room: everyone
"""

SETTINGS = """\
service,control,scope,value,pinned,rank,active,changed_at,note,set
tidecall,door.waiting-room,organisation,guests,,,,2026-03-02T09:00:00Z,,
tidecall,door.waiting-room,group:deck,everyone,,,,2026-06-18T14:20:00Z,so that the bridge need not let people in,
tidecall,door.waiting-room,group:board,members,true,,,2026-03-02T09:05:00Z,,confidential
tidecall,door.waiting-room,person:N1171,everyone,,,,2026-08-30T16:41:00Z,,
tidecall,door.identity,organisation,listed-domains,true,,,2026-03-02T09:00:00Z,,
tidecall,door.identity,group:contractors,any-account,true,,,2026-04-11T10:00:00Z,never counts: the organisation's value is pinned,
tidecall,door.listed-domains,organisation,northmere.example;coastguard.example.org;shipyard.example.com,true,,,2026-03-02T09:00:00Z,,
tidecall,door.host-first,organisation,on,,,,2026-03-02T09:00:00Z,,
tidecall,door.host-first,group:pilots,off,,,,2026-05-09T11:30:00Z,,
tidecall,door.anonymous-join,organisation,off,true,,,2026-03-02T09:00:00Z,,
tidecall,door.passcode-scheduled,organisation,on,,,,2026-03-02T09:00:00Z,,
tidecall,door.passcode-instant,organisation,on,true,,,2026-11-20T05:10:00Z,changed within the hour,
tidecall,door.personal-room,organisation,off,,,,2026-10-01T09:00:00Z,,
tidecall,door.personal-room,person:N1203,on,,,,2026-10-05T07:40:00Z,the pilots meet there at all hours,
tidecall,door.passcode-telephone,organisation,on,true,,,2026-03-02T09:00:00Z,,
tidecall,door.telephone-waits,organisation,on,true,,,2026-03-02T09:00:00Z,,
tidecall,door.passcode-length,organisation,8,true,,,2026-03-02T09:00:00Z,,
tidecall,door.start,organisation,members,true,,,2026-03-02T09:00:00Z,,
tidecall,room.share-screen,organisation,members,,,,2026-03-02T09:00:00Z,,
tidecall,room.share-screen,group:trial-crews,everyone,,10,,2026-10-20T12:00:00Z,,trial-crews
tidecall,room.share-screen,group:fleet,hosts,,20,,2026-10-20T12:00:00Z,,
tidecall,room.recording,organisation,hosts,,,,2026-03-02T09:00:00Z,,
tidecall,room.streaming,organisation,off,,,,2026-03-02T09:00:00Z,,
tidecall,room.streaming,group:safety,on,,,,2026-07-07T08:00:00Z,for the drill,
tidecall,room.co-hosts,organisation,members,true,,,2026-03-02T09:00:00Z,,
tidecall,line.encryption,group:board,end-to-end,,,,2026-09-12T09:00:00Z,,confidential
tidecall,line.encryption,group:technology,end-to-end,,,,2026-09-12T09:00:00Z,,confidential
tidecall,line.dial-in,group:technology,off,,,,2026-09-12T09:10:00Z,,confidential
quaychat,contact.outside-domains,organisation,listed,,,,2026-02-10T09:00:00Z,,
quaychat,contact.outside-domains,group:operations,listed,,30,,2026-02-10T09:00:00Z,,
quaychat,contact.outside-domains,group:crewing,any,,10,,2026-06-01T09:00:00Z,agencies write from anywhere,
quaychat,contact.unmanaged-accounts,organisation,off,,,,2026-02-10T09:00:00Z,,
quaychat,contact.unmanaged-accounts,group:catering,on,,20,,2026-07-15T09:00:00Z,,
quaychat,contact.unmanaged-accounts,group:operations,off,,30,,2026-02-10T09:00:00Z,,
quaychat,app.third-party,organisation,listed,,,,2026-02-10T09:00:00Z,,
quaychat,app.third-party,group:trial-crews,any,,20,,2026-10-20T12:00:00Z,,trial-crews
quaychat,app.third-party,group:engine,none,,20,,2026-02-10T09:00:00Z,the same rank as the trial crews: contested,
quaychat,app.home-made,organisation,listed,,,,2026-02-10T09:00:00Z,,
quaychat,app.allowed,organisation,crew-roster;tide-tables,,,,2026-02-10T09:00:00Z,,
quaychat,file.guest-resharing,organisation,off,,,,2026-11-16T09:00:00Z,four days ago; see the observations,
quaychat,file.sensitive-data-guard,organisation,on,,,,2026-02-10T09:00:00Z,,
quaychat,file.sensitive-data-guard,group:terminals,off,,20,,2026-05-05T09:00:00Z,,
quaychat,team.create-groups,organisation,named-people,,,,2026-02-10T09:00:00Z,,
quaychat,guest.directory-view,organisation,limited,,,,2026-02-10T09:00:00Z,,
quaychat,guest.directory-view,group:shipyard,everything,,10,,2025-11-03T09:00:00Z,,
quaychat,guest.invite,organisation,members,,,,2026-02-10T09:00:00Z,,
quaychat,call.forwarding-outside,organisation,off,,,,2026-02-10T09:00:00Z,,
beaconcast,broadcast.audience,organisation,organisation,,,,2026-01-20T09:00:00Z,,
beaconcast,broadcast.audience,unit:/Fleet,named-people,,,,2026-01-20T09:00:00Z,,
beaconcast,broadcast.audience,unit:/Fleet/Deck,public,,,,2026-06-21T18:05:00Z,the summer race,
beaconcast,broadcast.audience,unit:/Terminals,public,,,false,2026-06-21T18:05:00Z,switched off again,
beaconcast,broadcast.registration,organisation,on,,,,2026-01-20T09:00:00Z,,
beaconcast,door.identity,organisation,own-organisation,,,,2026-01-20T09:00:00Z,,
beaconcast,door.identity,unit:/Shore,any-account,,,,2026-04-02T13:00:00Z,on but useless: anyone can make an account,
beaconcast,door.waiting-room,organisation,members,true,,,2026-01-20T09:00:00Z,,
quaychat,contact.listed-domains,organisation,coastguard.example.org;shipyard.example.com,,,,2026-03-02T09:00:00Z,,
beaconcast,door.waiting-room,unit:/Pilots,everyone,,,,2026-02-02T09:00:00Z,never counts: the organisation's value is pinned,
tidecall,door.may-start,group:catering,off,,,,2026-03-02T09:00:00Z,the galley only joins,
tidecall,door.waiting-room,meeting:harbour-day,everyone,,,,2026-11-10T09:00:00Z,so that visitors come straight in,
tidecall,door.identity,meeting:harbour-day,any-account,,,,2026-11-10T09:00:00Z,,
tidecall,door.anonymous-join,meeting:harbour-day,on,,,,2026-11-10T09:00:00Z,never counts: the organisation's value is pinned,
tidecall,door.passcode-scheduled,meeting:harbour-day,off,,,,2026-11-10T09:00:00Z,,
tidecall,door.host-first,meeting:harbour-day,off,,,,2026-11-10T09:00:00Z,,
quaychat,file.guest-download,organisation,off,,,,2026-02-10T09:00:00Z,,
quaychat,file.guest-download,group:shipyard,on,,10,,2026-09-14T08:00:00Z,the yard takes drawings along,
quaychat,file.download-protection,organisation,encrypted,,,,2026-02-10T09:00:00Z,,
quaychat,file.protection-days,organisation,28,,,,2026-02-10T09:00:00Z,,
beaconcast,broadcast.audience,unit:/Fleet/Training,organisation,,,,2026-11-09T09:00:00Z,no one is in the unit yet,
beaconcast,broadcast.audience,unit:/Fleet/Dek,named-people,,,,2026-11-16T09:00:00Z,misspelt: it applies to nothing,
"""

UNITS = """\
path,name
/,Northmere Ferries
/Fleet,The fleet
/Fleet/Deck,Deck department
/Fleet/Engine,Engine department
/Fleet/Catering,Catering
/Fleet/Training,Training from January
/Shore,Shore offices
/Terminals,The terminals
/Pilots,Harbour pilots
"""

OBSERVATIONS = """\
person,service,control,value,seen_at
N1179,quaychat,file.guest-resharing,on,2026-11-19T15:00:00Z
N1180,quaychat,file.guest-resharing,on,2026-11-19T15:05:00Z
N1181,quaychat,file.guest-resharing,off,2026-11-19T15:10:00Z
N1003,tidecall,door.passcode-instant,on,2026-11-20T05:40:00Z
"""

PARTNERS = """\
domain,guests_in,guests_out,home_mfa_counts,home_device_counts,home_factor
*,false,true,false,false,
coastguard.example.org,true,true,true,false,mfa
shipyard.example.com,true,true,false,true,
"""

ACCESS_RULES = """\
usher-gate: access-rules/1
rules:
  - id: A-10
    title: Strong proof for administrators
    mode: enforce
    changed_at: 2026-03-02T09:00:00Z
    people:    {include: {role: privileged}, exclude: {break_glass: true}}
    resources: {include: any, exclude: [timesheets]}      # a hole: no one remembers why
    outcome:
      require: {any_of: [phishing-resistant, hardware-key]}
      session: {longest_hours: 8}
  - id: A-20
    title: A second factor for everyone
    mode: enforce
    changed_at: 2026-03-02T09:00:00Z
    people:    {include: {any: true}, exclude: {group: legacy-scanners}}
    resources: {include: any, exclude: [cargo-portal]}
    outcome:
      require: {all_of: [mfa]}
  - id: A-21
    title: A second factor for the cargo portal
    mode: enforce
    changed_at: 2026-03-02T09:00:00Z
    people:    {include: {any: true}, exclude: {group: legacy-scanners}}
    resources: {include: [cargo-portal]}
    when:
      client: [browser, app]                              # legacy clients slip through
      network: {include: any, exclude: [ticket-hall]}
    outcome:
      require: {all_of: [mfa]}
  - id: A-30
    title: No legacy clients
    mode: observe                                         # believed to be enforced since spring
    changed_at: 2026-04-10T09:00:00Z
    people:    {include: {any: true}, exclude: {group: legacy-scanners}}
    resources: {include: any}
    when: {client: [legacy]}
    outcome: {deny: true}
  - id: A-40
    title: The consoles only from managed devices
    mode: enforce
    changed_at: 2026-09-15T09:00:00Z
    people:    {include: {any: true}, exclude: {login: harbour-lamp-one@northmere.example}}
    resources: {include: {tag: admin}}
    outcome:
      require: {all_of: [managed-device, mfa]}
  - id: A-41
    title: The first sealed account only from managed devices
    mode: enforce
    changed_at: 2026-09-15T09:00:00Z
    people:    {include: {login: harbour-lamp-one@northmere.example}}
    resources: {include: {tag: admin}}
    outcome:
      require: {all_of: [managed-device]}
  - id: A-50
    title: No one at high risk
    mode: enforce
    changed_at: 2026-03-02T09:00:00Z
    people:    {include: {any: true}, exclude: {break_glass: true}}
    resources: {include: any}
    when: {risk: [high]}
    outcome: {deny: true}
  - id: A-60
    title: No downloads to devices that no one knows
    mode: enforce
    changed_at: 2026-03-02T09:00:00Z
    people:    {include: {any: true}}
    resources: {include: [cargo-portal, timesheets]}
    when: {device: [unknown]}
    outcome:
      session: {downloads: deny, longest_hours: 2}
"""

PASSES = """\
person,issued_at,starts_at,expires_at,single_use,used_at,issuer
N1060,2026-11-20T05:30:00Z,,2026-11-20T09:30:00Z,true,,N1174
N1100,2026-11-18T08:00:00Z,,2026-11-25T08:00:00Z,false,,N1174
N1172,2026-11-20T05:00:00Z,,2026-11-20T13:00:00Z,true,,N1172
N1218,2026-11-20T05:45:00Z,,2026-11-20T07:45:00Z,true,,N1174
N1005,2026-11-19T08:00:00Z,,2026-11-20T08:00:00Z,true,2026-11-19T08:30:00Z,N1174
"""

EXTRA_RULES = """\
  - id: NM-01
    title: No one handling cargo manifests stops at "offered"
    severity: critical
    audience: {group: manifests}
    expect: {person: mfa, is: required}
    because: A forged manifest puts the wrong cargo next to the passengers.
    mend: Require the second factor for the group.
    maps: {"NIST SP 800-53r5": [IA-2(2)], "ISO/IEC 27001:2022": [A.8.5]}
  - id: NM-05
    title: The cargo portal asks people who handle manifests for a second factor, everywhere
    severity: critical
    audience: {group: manifests}
    expect: {proof: mfa, on: [cargo-portal]}
    because: A forged manifest puts the wrong cargo next to the passengers.
    mend: Enforce A-30, and take the exclusion of the ticket hall out of A-21.
    maps: {"NIST SP 800-53r5": [IA-2(2)], "ISO/IEC 27001:2022": [A.8.5]}
  - id: NM-02
    title: Administrators and the board talk end to end
    severity: medium
    audience: {any_of: [{role: privileged}, {group: board}]}
    services: [tidecall]
    expect: {control: line.encryption, is: end-to-end}
    because: Recovery codes and prices are spoken of in these calls.
    mend: Give them the plus licence, and switch it on for their groups.
    maps: {"NIST SP 800-53r5": [SC-8], "ISO/IEC 27001:2022": [A.8.24]}
  - id: NM-06
    title: Administrators have another account to fall back on
    severity: medium
    audience: {all_of: [{role: privileged}, {not: {break_glass: true}}]}
    expect: {person: fallback-accounts, between: [1, 99]}
    because: An administrator whose only account is locked cannot unlock it.
    mend: Give them a second account, and write its owner into attr.owner.
    maps: {"NIST SP 800-53r5": [AC-2, CP-2], "ISO/IEC 27001:2022": [A.5.18, A.8.2]}
  - id: NM-03
    title: Joining is for our own domain and our two partners
    severity: high
    services: [tidecall]
    expect: {control: door.listed-domains, within: [northmere.example, coastguard.example.org, shipyard.example.com]}
    pinned: strict
    because: One domain too many, and its whole staff passes as known.
    mend: Take the others from the list.
    maps: {"NIST SP 800-53r5": [AC-3], "ISO/IEC 27001:2022": [A.5.15]}
  - id: NM-04
    title: The word of partners on their devices is not taken
    severity: low
    subject: partners
    expect: {partner: home_device_counts, is: "off"}
    because: What counts as a managed device at the shipyard is not ours to see.
    mend: Switch it off for the partner.
    maps: {"NIST SP 800-53r5": [AC-20], "ISO/IEC 27001:2022": [A.5.19]}
"""

# A baseline of its own: one rule that every service must support.
EVERY_SERVICE = """\
usher-gate: baseline/1
name: What every service must be able to do
version: draft
audiences:
  harbour-masters: {role: harbour-master}      # no rule uses it, and no one has the role
rules:
  - id: EVERY-01
    title: Outsiders wait, on every service
    severity: high
    must_support: true                         # a service without a waiting room fails, instead of being left out
    expect: {control: door.waiting-room, no_weaker_than: guests}
    because: A service that cannot keep anyone waiting lets everyone in.
    mend: Hold meetings with outsiders on another service.
"""

EXCEPTIONS = """\
usher-gate: exceptions/1
# Every exception says why, by whose approval, and until when. Without an end it is refused.
exceptions:
  - id: X-2026-014
    rules: [DOOR-03]
    who: {group: pilots-liaison}
    services: [tidecall]
    reason: Pilots join from the wheelhouse before the office is up.
    approved_by: harbour master's office
    until: 2027-01-31
  - id: X-2026-021
    rules: [CONTACT-01]
    who: {group: crewing}
    reason: Agencies are being moved to listed domains.
    approved_by: head of crewing
    until: 2026-12-04      # within 30 days of the snapshot
  - id: X-2026-009
    rules: [ROOM-03]
    who: {group: safety}
    reason: The summer drill was streamed.
    approved_by: safety office
    until: 2026-08-31      # over, and no one switched streaming off again
  - id: X-2026-017
    rules: [APP-02]
    who: {unit: /Shore/Finance}
    reason: A script that was retired in September.
    approved_by: head of finance
    until: 2027-06-30      # covers nothing today
"""

TOML = """\
# Where things lie, counted from this folder. Options on the command line override it.
snapshot = "snapshot"
baseline = "baseline.yaml"
exceptions = "exceptions.yaml"

# What is agreed about guests: who is asked where no one answers for them (the rest is as it comes).
[guests]
fallback = ["N1171"]
"""

# Changes to be rehearsed: one that hurts no one, one that does, and a roll-out in three steps.
WAITING_ROOMS = """\
usher-gate: changes/1
title: Waiting rooms for everyone
from: 2026-11-21T08:00:00Z
changes:
  - set: {service: tidecall, control: door.waiting-room, scope: organisation, value: guests, pinned: true}
  - unset: {service: tidecall, control: door.waiting-room, scope: "group:deck"}
  - unset: {service: tidecall, control: door.waiting-room, scope: "person:N1171"}
"""

PARTNERS_CHANGED = """\
usher-gate: changes/1
title: The coastguard's second factor counts no more
from: 2026-12-15T08:00:00Z
changes:
  - partner: {domain: coastguard.example.org, home_mfa_counts: false}
"""

OWN_ORGANISATION_ONLY = """\
usher-gate: changes/1
title: Only people of our own join, and callers give a passcode
from: 2026-11-21T08:00:00Z
changes:
  - set: {service: tidecall, control: door.identity, scope: organisation, value: own-organisation}
  - set: {service: tidecall, control: door.passcode-in-link, scope: organisation, value: "off", pinned: true}
  - access_rule: {id: A-30, mode: enforce}     # no legacy clients
"""


def _second_factor(step: str, who: str, day: str) -> str:
    return f"""\
usher-gate: changes/1
title: The second factor, {step}
from: {day}T06:00:00Z
changes:
  - people: {{who: {who}, mfa: required}}
"""


SECOND_FACTOR = (
    _second_factor("for administrators", "{role: privileged}", "2026-12-01"),
    _second_factor("for people who handle cargo manifests", "{group: manifests}", "2026-12-15"),
    _second_factor("for everybody", "{kind: member}", "2027-01-12"),
)
