"""The tables. Times are seconds since the epoch (UTC); JSON columns hold plain JSON values.

`journal` is the only truth about a run; the other columns of `runs`, and `approvals` and `pieces` as far as
they repeat it, are projections for quick lists.
"""

from __future__ import annotations

from typing import Any

from sqlalchemy import JSON, ForeignKey, Index, String, Text, UniqueConstraint, text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    """Common ground of all tables."""

    type_annotation_map = {dict[str, Any]: JSON, list[Any]: JSON}


class House(Base):
    """What is true of this data folder: ``identity`` (random, made with it), part of the key of every effect."""

    __tablename__ = "house"
    name: Mapped[str] = mapped_column(String(40), primary_key=True)
    value: Mapped[str] = mapped_column(Text)


class User(Base):
    __tablename__ = "users"
    id: Mapped[int] = mapped_column(primary_key=True)
    email: Mapped[str] = mapped_column(String(200), unique=True)
    name: Mapped[str] = mapped_column(String(120))
    role: Mapped[str] = mapped_column(String(20))
    password: Mapped[str] = mapped_column(String(200))
    ended_at: Mapped[float | None]
    brands: Mapped[list[Any] | None] = mapped_column(JSON(none_as_null=True))
    """The keys of the brands somebody is kept to; ``None``: they see all of the house."""
    second: Mapped[str | None] = mapped_column(Text)
    """The secret of the second step at sign-in, sealed; ``None`` where there is none."""
    second_step: Mapped[int | None]
    """The step of the figures that were used last: none of it or before it is taken again."""
    second_codes: Mapped[list[Any] | None] = mapped_column(JSON(none_as_null=True))
    """SHA-256 of each code that has not been used."""


class WebSession(Base):
    __tablename__ = "web_sessions"
    __table_args__ = (Index("sessions_of_user", "user_id"),)
    id: Mapped[str] = mapped_column(String(64), primary_key=True)  # SHA-256 of the cookie's token
    user_id: Mapped[int] = mapped_column(ForeignKey("users.id", ondelete="CASCADE"))
    csrf: Mapped[str] = mapped_column(String(64))
    expires_at: Mapped[float]
    begun_at: Mapped[float | None]
    seen_at: Mapped[float | None]
    place: Mapped[str] = mapped_column(String(60), default="", server_default="")
    agent: Mapped[str] = mapped_column(String(200), default="", server_default="")


class ApiKey(Base):
    """A key with which another program asks in a person's name: as they may, but no further than its `scope`, a role."""

    __tablename__ = "api_keys"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)  # SHA-256 of the key
    name: Mapped[str] = mapped_column(String(80))
    scope: Mapped[str] = mapped_column(String(20))
    user_id: Mapped[int] = mapped_column(ForeignKey("users.id", ondelete="CASCADE"))
    made_at: Mapped[float]
    used_at: Mapped[float | None]
    place: Mapped[str] = mapped_column(String(60), default="", server_default="")


class Passkey(Base):
    """A device's key by which somebody signs in (Web Authentication): its id and `public` key in base64url, how often it has signed as it
    counts itself, and the `place` (host) it was made for."""

    __tablename__ = "passkeys"
    __table_args__ = (Index("passkeys_of_user", "user_id"),)
    id: Mapped[str] = mapped_column(String(1400), primary_key=True)
    user_id: Mapped[int] = mapped_column(ForeignKey("users.id", ondelete="CASCADE"))
    public: Mapped[str] = mapped_column(Text)
    count: Mapped[int]
    name: Mapped[str] = mapped_column(String(80))
    place: Mapped[str] = mapped_column(String(260))
    made_at: Mapped[float]
    used_at: Mapped[float | None]


class Brand(Base):
    __tablename__ = "brands"
    key: Mapped[str] = mapped_column(String(60), primary_key=True)
    name: Mapped[str] = mapped_column(String(120))
    facts: Mapped[dict[str, Any]]
    limits: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict)  # {"day_money": …, "month_money": …}
    examples: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict, server_default="{}")  # {"liked": [text], "disliked": …}
    own: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict, server_default="{}")
    """What stands for it in the place of another brand's (see `runtime.clients`)."""
    keeps: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict, server_default="{}")
    """For how long what its workflows did is kept, where it has terms of its own (see `runtime.terms`)."""


class Connection(Base):
    __tablename__ = "connections"
    key: Mapped[str] = mapped_column(String(60), primary_key=True)
    kind: Mapped[str] = mapped_column(String(40))
    name: Mapped[str] = mapped_column(String(120))
    settings: Mapped[dict[str, Any]]
    sealed: Mapped[str] = mapped_column(Text, default="")
    tested_at: Mapped[float | None]
    test_ok: Mapped[bool | None]
    test_says: Mapped[str] = mapped_column(Text, default="")
    brand: Mapped[str | None] = mapped_column(String(60))
    """Whose it is; ``None``: everybody's."""


class WorkflowRecord(Base):
    __tablename__ = "workflows"
    __table_args__ = (Index("workflows_following", "follows"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(120))
    brand: Mapped[str | None] = mapped_column(String(60))
    document: Mapped[dict[str, Any]]
    version: Mapped[int] = mapped_column(default=1)
    state: Mapped[str] = mapped_column(String(20), default="draft")  # draft, live, paused, away, removed
    revision_id: Mapped[int | None]
    follows: Mapped[int | None]
    """The workflow whose page it follows, for another brand."""
    updated_at: Mapped[float]


THERE = WorkflowRecord.state != "removed"
"""That a workflow is there: of one that was removed only what its runs need is kept."""


class Revision(Base):
    __tablename__ = "revisions"
    __table_args__ = (UniqueConstraint("workflow_id", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    workflow_id: Mapped[int] = mapped_column(ForeignKey("workflows.id", ondelete="CASCADE"))
    number: Mapped[int]
    document: Mapped[dict[str, Any]]
    created_at: Mapped[float]
    created_by: Mapped[str] = mapped_column(String(120), default="")


class Sample(Base):
    __tablename__ = "samples"
    id: Mapped[int] = mapped_column(primary_key=True)
    workflow_id: Mapped[int] = mapped_column(ForeignKey("workflows.id", ondelete="CASCADE"), index=True)
    label: Mapped[str] = mapped_column(String(300))
    item: Mapped[dict[str, Any]]
    source: Mapped[str] = mapped_column(String(40))
    identity: Mapped[str] = mapped_column(String(500), default="", server_default="")  # what its start knows it by
    shown: Mapped[bool] = mapped_column(default=True)
    created_at: Mapped[float]
    place: Mapped[int] = mapped_column(default=0, server_default="0")


class Judgement(Base):
    """Which of several takes a person liked best for a sample; takes are told by the keys of their proofs."""

    __tablename__ = "judgements"
    id: Mapped[int] = mapped_column(primary_key=True)
    workflow_id: Mapped[int] = mapped_column(ForeignKey("workflows.id", ondelete="CASCADE"), index=True)
    step: Mapped[str] = mapped_column(String(40))
    sample_id: Mapped[int] = mapped_column(ForeignKey("samples.id", ondelete="CASCADE"))
    chosen: Mapped[str] = mapped_column(String(64))
    among: Mapped[list[Any]]
    by: Mapped[str] = mapped_column(String(200))
    at: Mapped[float]


class Proof(Base):
    """A result kept by everything it depends on."""

    __tablename__ = "proofs"
    key: Mapped[str] = mapped_column(String(64), primary_key=True)
    ok: Mapped[bool]
    output: Mapped[dict[str, Any]]
    detail: Mapped[dict[str, Any]]
    usage: Mapped[dict[str, Any]]
    at: Mapped[float]


class ProofCell(Base):
    """The last result shown in a cell, which stays visible when it is out of date."""

    __tablename__ = "proof_cells"
    sample_id: Mapped[int] = mapped_column(ForeignKey("samples.id", ondelete="CASCADE"), primary_key=True)
    step: Mapped[str] = mapped_column(String(40), primary_key=True)
    key: Mapped[str] = mapped_column(String(64))


class Start(Base):
    """What a start remembers between looks."""

    __tablename__ = "starts"
    workflow_id: Mapped[int] = mapped_column(ForeignKey("workflows.id", ondelete="CASCADE"), primary_key=True)
    memory: Mapped[dict[str, Any]]
    looked_at: Mapped[float | None]
    found: Mapped[str] = mapped_column(Text, default="")
    failed: Mapped[bool] = mapped_column(default=False)
    next_at: Mapped[float] = mapped_column(default=0.0)


class Seen(Base):
    """Items a start has handed out or passed over; each counts once."""

    __tablename__ = "seen"
    workflow_id: Mapped[int] = mapped_column(ForeignKey("workflows.id", ondelete="CASCADE"), primary_key=True)
    identity: Mapped[str] = mapped_column(String(500), primary_key=True)
    run_id: Mapped[int | None] = mapped_column(index=True)
    at: Mapped[float | None]


class Backlog(Base):
    """Items that were there when a start went live, to be run so many a day."""

    __tablename__ = "backlog"
    id: Mapped[int] = mapped_column(primary_key=True)
    workflow_id: Mapped[int] = mapped_column(ForeignKey("workflows.id", ondelete="CASCADE"), index=True)
    identity: Mapped[str] = mapped_column(String(500))
    item: Mapped[dict[str, Any]]


class StepMemory(Base):
    """What a step remembers from run to run."""

    __tablename__ = "step_memory"
    workflow_id: Mapped[int] = mapped_column(ForeignKey("workflows.id", ondelete="CASCADE"), primary_key=True)
    step: Mapped[str] = mapped_column(String(40), primary_key=True)
    data: Mapped[dict[str, Any]]


class Spending(Base):
    """What a workflow's runs have cost on a day (YYYY-MM-DD, where the server stands)."""

    __tablename__ = "spending"
    day: Mapped[str] = mapped_column(String(10), primary_key=True)
    workflow_id: Mapped[int] = mapped_column(ForeignKey("workflows.id", ondelete="CASCADE"), primary_key=True)
    cost: Mapped[float] = mapped_column(default=0.0)
    tokens: Mapped[int] = mapped_column(default=0)


class Arrival(Base):
    """A call for a run that waits, or will wait, for one; taken by the first wait that can."""

    __tablename__ = "arrivals"
    id: Mapped[int] = mapped_column(primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("runs.id", ondelete="CASCADE"), index=True)
    at: Mapped[float]
    item: Mapped[dict[str, Any]]
    taken: Mapped[bool] = mapped_column(default=False)


class StoredFile(Base):
    """A file kept by its content (SHA-256); `name` and `type` are those it was first given."""

    __tablename__ = "files"
    sha: Mapped[str] = mapped_column(String(64), primary_key=True)
    name: Mapped[str] = mapped_column(String(300))
    type: Mapped[str] = mapped_column(String(120))
    size: Mapped[int]
    created_at: Mapped[float]


class Run(Base):
    __tablename__ = "runs"
    __table_args__ = (
        Index("runs_by_state", "state", "started_at"),
        Index("runs_open", "ended_at"),
        Index("runs_to_go_on", "ended_at", "idle"),
        Index("runs_of_workflow", "workflow_id", "state"),
        Index("runs_by_start", "workflow_id", "started_at"),
        Index("runs_in_order", "started_at"),
        Index("runs_by_change", "state", "changed_at"),
        Index("runs_by_revision", "revision_id", "state"),
        Index("runs_to_pack", "ended_at", sqlite_where=text("packed IS NULL")),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    workflow_id: Mapped[int] = mapped_column(ForeignKey("workflows.id", ondelete="CASCADE"))
    revision_id: Mapped[int] = mapped_column(ForeignKey("revisions.id"))
    title: Mapped[str] = mapped_column(String(300))
    # queued, running, waiting, resting, asking, stuck, unsure, held; failed, done, declined, cancelled, skipped
    state: Mapped[str] = mapped_column(String(20))
    step: Mapped[str] = mapped_column(String(40), default="")
    message: Mapped[str] = mapped_column(Text, default="")
    started_at: Mapped[float]
    changed_at: Mapped[float]
    ended_at: Mapped[float | None]
    # Whether all that is open in it waits for a time, a person or a piece: such a run is loaded only when that comes.
    idle: Mapped[bool] = mapped_column(default=False, server_default="0")
    cost: Mapped[float] = mapped_column(default=0.0)
    tokens: Mapped[int] = mapped_column(default=0)
    packed: Mapped[int | None]
    """The number of the last entry of its journal that is packed into a file; ``None`` where none is."""
    emptied: Mapped[float | None]
    """When all but the first entry of its journal was removed, because its term was over."""
    parent_id: Mapped[int | None] = mapped_column(index=True)
    parent_address: Mapped[str] = mapped_column(String(200), default="")
    depth: Mapped[int] = mapped_column(default=0)


class JournalEntry(Base):
    __tablename__ = "journal"
    run_id: Mapped[int] = mapped_column(ForeignKey("runs.id", ondelete="CASCADE"), primary_key=True)
    seq: Mapped[int] = mapped_column(primary_key=True)
    event: Mapped[dict[str, Any]]


class Lease(Base):
    """That a step is carried out by a worker elsewhere: written before it is published, held for as long as the worker is heard of
    (`until`), over at `ended_at`; `answers` are the names of those that were taken in. The id is a digest of the house, the run, the address and what is done there for the how-manieth time."""

    __tablename__ = "leases"
    __table_args__ = (Index("leases_by_end", "ended_at"),)
    id: Mapped[str] = mapped_column(String(64), primary_key=True)
    run_id: Mapped[int]
    address: Mapped[str] = mapped_column(String(300))
    kind: Mapped[str] = mapped_column(String(40))
    published_at: Mapped[float]
    until: Mapped[float]
    worker: Mapped[str] = mapped_column(String(120), default="", server_default="")
    ended_at: Mapped[float | None]
    answers: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")


class PackedFile(Base):
    """A kept file that a packed journal names."""

    __tablename__ = "packed_files"
    sha: Mapped[str] = mapped_column(String(64), primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("runs.id", ondelete="CASCADE"), primary_key=True, index=True)


class Timer(Base):
    """When a run that waits at an address is due; `made_at` is when it began to wait."""

    __tablename__ = "timers"
    __table_args__ = (Index("timers_by_time", "due"),)
    run_id: Mapped[int] = mapped_column(ForeignKey("runs.id", ondelete="CASCADE"), primary_key=True)
    address: Mapped[str] = mapped_column(String(300), primary_key=True)
    due: Mapped[float]
    made_at: Mapped[float]


class Approval(Base):
    __tablename__ = "approvals"
    __table_args__ = (
        Index("approvals_by_state", "state", "decided_at"),
        Index("approvals_in_order", "state"),
        Index("approvals_of_run", "run_id", "state"),
        Index("approvals_due", "state", "due_at"),
        Index("approvals_taken", "taken_until"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("runs.id", ondelete="CASCADE"))
    address: Mapped[str] = mapped_column(String(200))
    round: Mapped[int]
    last: Mapped[bool]
    draft: Mapped[str] = mapped_column(String(40))
    who: Mapped[str] = mapped_column(String(200))
    text: Mapped[str] = mapped_column(Text)
    state: Mapped[str] = mapped_column(String(20), default="open")  # open, approve, back, decline, void
    final_text: Mapped[str] = mapped_column(Text, default="")
    note: Mapped[str] = mapped_column(Text, default="")
    # Must-rules the draft breaks: when it was asked about, and those it was let out with all the same.
    broken: Mapped[list[Any]] = mapped_column(JSON, default=list, server_default="[]")
    despite: Mapped[list[Any]] = mapped_column(JSON, default=list, server_default="[]")
    decided_by: Mapped[str] = mapped_column(String(200), default="")
    created_at: Mapped[float]
    decided_at: Mapped[float | None]
    # Who is asked, in order: {"who", "instead_of", "told_at", "said", "said_at", "by"}; and whose yes it takes (see `core.people`).
    people: Mapped[list[Any]] = mapped_column(JSON, default=list, server_default="[]")
    needs: Mapped[str] = mapped_column(String(10), default="one", server_default="one")
    # How people are told: {"mail", "mailbox", "remind", "room"}; and what was changed by those who said yes: {"text", "parts"}.
    ways: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict, server_default="{}")
    edit: Mapped[dict[str, Any] | None] = mapped_column(JSON)
    # What an answer is made of: {} for a yes or a note, else {"form": "choose" | "fill" | "yes_no", …}; and the answer itself.
    asks: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict, server_default="{}")
    # When it would go out if it were approved at once; when an answer is due, and what happens then; when the time passed.
    goes_at: Mapped[float | None]
    deadline: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict, server_default="{}")
    deadline_at: Mapped[float | None]
    due_at: Mapped[float | None]  # the earlier of the two
    lapsed_at: Mapped[float | None]
    # What a queue tells of it, once that is known: {"form", "channel", "opening", "to", "broken", "doubtful"}.
    brief: Mapped[dict[str, Any] | None] = mapped_column(JSON)
    # A yes that only a model read: {"by", "says"}; it counts at `taken_until`, if nobody takes it back.
    taken: Mapped[dict[str, Any] | None] = mapped_column(JSON)
    taken_until: Mapped[float | None]


class Person(Base):
    """What a person who is asked wants: a substitute while they are away, quiet hours, one mail for many."""

    __tablename__ = "people"
    who: Mapped[str] = mapped_column(String(200), primary_key=True)  # mail address, in lower case
    away_from: Mapped[float | None]
    away_until: Mapped[float | None]
    substitute: Mapped[str] = mapped_column(String(200), default="", server_default="")
    chat: Mapped[str] = mapped_column(String(200), default="", server_default="")  # a bare JID, where it is not the mail address
    zone: Mapped[str] = mapped_column(String(60), default="", server_default="")
    quiet: Mapped[dict[str, Any]] = mapped_column(
        JSON, default=dict, server_default="{}"
    )  # {"from": "20:00", "until": "07:00", "days": [5, 6]}
    collect: Mapped[list[Any]] = mapped_column(
        JSON, default=list, server_default="[]"
    )  # times of day at which one mail tells of all


class Notice(Base):
    """Something that is wrong, told once: raised while it lasts, mended when it is over."""

    __tablename__ = "notices"
    __table_args__ = (Index("notices_standing", "mended_at"), Index("notices_by_time", "raised_at"))
    id: Mapped[int] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(String(200))  # what is wrong: the same as long as it is the same trouble
    what: Mapped[str] = mapped_column(String(30))
    workflow_id: Mapped[int | None]
    words: Mapped[str] = mapped_column(Text)
    link: Mapped[str] = mapped_column(Text, default="")
    raised_at: Mapped[float]
    mended_at: Mapped[float | None]


class NoticeRule(Base):
    """Who is told of what is wrong, how and when: for one workflow, or for the house."""

    __tablename__ = "notice_rules"
    id: Mapped[int] = mapped_column(primary_key=True)
    workflow_id: Mapped[int | None] = mapped_column(ForeignKey("workflows.id", ondelete="CASCADE"), index=True)
    what: Mapped[list[Any]]  # names of troubles; all where empty
    way: Mapped[str] = mapped_column(String(10))  # mail, room, push
    connection: Mapped[str] = mapped_column(String(60), default="")
    to: Mapped[str] = mapped_column(String(200), default="")
    at: Mapped[str] = mapped_column(String(5), default="")  # a time of day for one letter; empty: at once
    zone: Mapped[str] = mapped_column(String(60), default="")
    since: Mapped[float]
    told_until: Mapped[float]


class PushLine(Base):
    """A browser that takes pushes (RFC 8030), and whose it is."""

    __tablename__ = "push_lines"
    id: Mapped[int] = mapped_column(primary_key=True)
    user_id: Mapped[int] = mapped_column(ForeignKey("users.id", ondelete="CASCADE"), index=True)
    endpoint: Mapped[str] = mapped_column(Text, unique=True)
    keys: Mapped[dict[str, Any]]  # {"p256dh", "auth"}, RFC 8291
    name: Mapped[str] = mapped_column(String(200), default="")
    made_at: Mapped[float]
    failed: Mapped[int] = mapped_column(default=0)


class Piece(Base):
    """The outbox: pieces and messages on their way out."""

    __tablename__ = "pieces"
    __table_args__ = (
        UniqueConstraint("key"),
        Index("pieces_by_state", "state", "due_at"),
        Index("pieces_by_sending", "state", "sent_at"),
        Index("pieces_of_channel", "connection", "state", "sent_at"),
        Index("pieces_of_approval", "approval_id"),
        Index("pieces_to_go", "connection", "goes_at"),
        Index("pieces_by_link", text("json_extract(receipt, '$.link')")),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(String(64))
    run_id: Mapped[int | None] = mapped_column(ForeignKey("runs.id", ondelete="CASCADE"), index=True)
    address: Mapped[str] = mapped_column(String(200), default="")
    generation: Mapped[int | None]
    approval_id: Mapped[int | None]
    connection: Mapped[str] = mapped_column(String(60))
    kind: Mapped[str] = mapped_column(String(40))
    content: Mapped[dict[str, Any]]
    state: Mapped[str] = mapped_column(String(20))  # queued, intent, accepted, going, held, sent, unsure, failed
    tried_at: Mapped[float | None]  # when the intent of the last attempt was written
    attempt: Mapped[int] = mapped_column(default=0)
    message: Mapped[str] = mapped_column(Text, default="")
    receipt: Mapped[dict[str, Any] | None] = mapped_column(JSON)
    queued_at: Mapped[float]
    due_at: Mapped[float]
    sent_at: Mapped[float | None]
    goes_at: Mapped[float | None]  # when it is to go out
    goes_by: Mapped[float | None]  # when it is too late, and a person is asked
    waived: Mapped[bool] = mapped_column(default=False, server_default="0")  # whether a person let it go past a quota


class Timetable(Base):
    """A channel's places: an RFC 5545 rule in a zone (IANA), at most so many pieces a day, and so many seconds apart."""

    __tablename__ = "timetables"
    connection: Mapped[str] = mapped_column(ForeignKey("connections.key", ondelete="CASCADE"), primary_key=True)
    rule: Mapped[str] = mapped_column(Text)
    zone: Mapped[str] = mapped_column(String(60))
    a_day: Mapped[int | None]
    apart: Mapped[float | None]


class MailingLetter(Base):
    """A mailing's letter to one reader: an effect of its own, known by `key`. The body is the mailing's; `fields` are what this
    reader's letter is filled in with, `row` the row of the list."""

    __tablename__ = "mailing_letters"
    __table_args__ = (
        Index("letters_to_go", "piece_id", "state", "tries", "tried_at"),
        Index("letters_by_address", "folded"),
        Index("letters_by_key", "key"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    piece_id: Mapped[int] = mapped_column(ForeignKey("pieces.id", ondelete="CASCADE"))
    key: Mapped[str] = mapped_column(String(40))
    address: Mapped[str] = mapped_column(String(500))
    folded: Mapped[str] = mapped_column(String(320))
    fields: Mapped[dict[str, Any]]
    row: Mapped[int] = mapped_column(default=0)
    state: Mapped[str] = mapped_column(String(20))  # waiting, intent, sent, unsure, refused, left, bounced, dropped
    message: Mapped[str] = mapped_column(Text, default="")
    tries: Mapped[int] = mapped_column(default=0)
    tried_at: Mapped[float | None]
    sent_at: Mapped[float | None]


class MailingList(Base):
    """A sheet that is a list: its columns for the address and the state. Where one may join by a page, `join` is that page's secret
    address, `server` the connection the mail that asks back goes through, and `words` what the page says."""

    __tablename__ = "mailing_lists"
    sheet: Mapped[str] = mapped_column(ForeignKey("sheets.key", ondelete="CASCADE"), primary_key=True)
    address: Mapped[str] = mapped_column(String(120))
    state: Mapped[str] = mapped_column(String(120), default="")
    join: Mapped[str] = mapped_column(String(64), default="")
    server: Mapped[str] = mapped_column(String(60), default="")
    mailbox: Mapped[str] = mapped_column(String(60), default="")
    words: Mapped[str] = mapped_column(Text, default="")


class MailboxLook(Base):
    """How far a mailbox was looked into for what comes back of letters, and what was wrong at the last look."""

    __tablename__ = "mailbox_looks"
    connection: Mapped[str] = mapped_column(String(60), primary_key=True)
    memory: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict)
    wrong: Mapped[str] = mapped_column(Text, default="")


class Result(Base):
    """What came back of a piece: an ``answer``, a ``press`` of a link, a ``bounce``, or that somebody ``left``; by whom, and the link
    or the words. Each counts once for each who and detail. Or a ``number`` its channel gave: called `who`, so many seconds after
    (`detail`), the number as text."""

    __tablename__ = "results"
    __table_args__ = (UniqueConstraint("piece_id", "what", "who", "detail"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    piece_id: Mapped[int] = mapped_column(ForeignKey("pieces.id", ondelete="CASCADE"))
    what: Mapped[str] = mapped_column(String(20))
    who: Mapped[str] = mapped_column(String(320))
    detail: Mapped[str] = mapped_column(String(2000), default="")
    text: Mapped[str] = mapped_column(Text, default="")
    at: Mapped[float]


class NumbersLook(Base):
    """That a channel is asked what came of a piece, so many seconds after it went out: when next, ``None`` where it has been; how
    often that failed, and why."""

    __tablename__ = "numbers_looks"
    __table_args__ = (Index("numbers_looks_due", "due_at"),)
    piece_id: Mapped[int] = mapped_column(ForeignKey("pieces.id", ondelete="CASCADE"), primary_key=True)
    after: Mapped[float] = mapped_column(primary_key=True)
    due_at: Mapped[float | None]
    tries: Mapped[int] = mapped_column(default=0)
    wrong: Mapped[str] = mapped_column(String(500), default="")


class Use(Base):
    """How often a connection was asked on a day (YYYY-MM-DD, where the server stands), and the tokens that took."""

    __tablename__ = "uses"
    connection: Mapped[str] = mapped_column(String(60), primary_key=True)
    day: Mapped[str] = mapped_column(String(10), primary_key=True)
    calls: Mapped[int] = mapped_column(default=0)
    tokens: Mapped[int] = mapped_column(default=0)


class Leaver(Base):
    """An address that is written to as one of a mailing no more, whatever the mailing; `why`: ``left``, or what else keeps it off.
    `mailing` is the name of the one it came by."""

    __tablename__ = "leavers"
    address: Mapped[str] = mapped_column(String(320), primary_key=True)  # case folded
    mailing: Mapped[str] = mapped_column(String(200), default="")
    why: Mapped[str] = mapped_column(String(20), default="left")
    at: Mapped[float]


class Listing(Base):
    """How soon a channel lists what it took, as seen: at most `lag` seconds."""

    __tablename__ = "listings"
    connection: Mapped[str] = mapped_column(String(60), primary_key=True)
    lag: Mapped[float]
    seen: Mapped[int] = mapped_column(default=0)
    at: Mapped[float]


class Sheet(Base):
    __tablename__ = "sheets"
    key: Mapped[str] = mapped_column(String(60), primary_key=True)
    name: Mapped[str] = mapped_column(String(120))
    columns: Mapped[list[Any]]  # [{"name": …, "type": text | number | date | link | choice}]
    brand: Mapped[str | None] = mapped_column(String(60))
    """Whose it is; ``None``: the house's."""


class SheetRow(Base):
    __tablename__ = "sheet_rows"
    __table_args__ = (
        Index("rows_in_order", "sheet", "position"),
        Index("rows_by_change", "sheet", "touched"),
        {"sqlite_autoincrement": True},
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    sheet: Mapped[str] = mapped_column(ForeignKey("sheets.key", ondelete="CASCADE"))
    position: Mapped[int]
    cells: Mapped[dict[str, Any]]
    run_id: Mapped[int | None]
    key: Mapped[str | None] = mapped_column(String(64), unique=True)
    touched: Mapped[int] = mapped_column(default=0, server_default="0")  # the number of the change it was last changed by


class RowChange(Base):
    """What was done to a row: ``added``, ``written``, ``moved`` or ``removed``, by a run at an address, or by somebody (`who`). `before` and
    `after` are the cells that changed (all of them, where the row came or went); `place` is where it stood. `undone_by` took it back."""

    __tablename__ = "row_changes"
    __table_args__ = (
        Index("changes_of_row", "row_id"),
        Index("changes_of_run", "run_id"),
        Index("changes_by_effect", "key"),
        Index("changes_of_sheet", "sheet", "what", "at"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    sheet: Mapped[str] = mapped_column(ForeignKey("sheets.key", ondelete="CASCADE"))
    row_id: Mapped[int]
    at: Mapped[float]
    what: Mapped[str] = mapped_column(String(10))
    who: Mapped[str] = mapped_column(String(200), default="")
    run_id: Mapped[int | None]
    address: Mapped[str] = mapped_column(String(200), default="")
    key: Mapped[str] = mapped_column(String(64), default="")
    before: Mapped[dict[str, Any]]
    after: Mapped[dict[str, Any]]
    place: Mapped[int] = mapped_column(default=0)
    undone_by: Mapped[str] = mapped_column(String(200), default="")


class SheetView(Base):
    """A way of looking at a sheet, by name. `shows` holds words, conditions, sorting, grouping, columns and what stands under them."""

    __tablename__ = "sheet_views"
    __table_args__ = (UniqueConstraint("sheet", "name"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    sheet: Mapped[str] = mapped_column(ForeignKey("sheets.key", ondelete="CASCADE"))
    name: Mapped[str] = mapped_column(String(80))
    shows: Mapped[dict[str, Any]]


class OutsideSheet(Base):
    """Where a sheet stands that is a file elsewhere: a `place` in a file store (`connection`), or the address of a published file.
    `base` is what was in the file when it was last looked at, row by row with the row's number here, `tag` the file's version, and
    `seen` the last change of our rows that the file has, `rows` how many those were."""

    __tablename__ = "outside_sheets"
    sheet: Mapped[str] = mapped_column(ForeignKey("sheets.key", ondelete="CASCADE"), primary_key=True)
    connection: Mapped[str] = mapped_column(String(60), default="")
    place: Mapped[str] = mapped_column(Text)
    every: Mapped[float] = mapped_column(default=300.0)
    tag: Mapped[str] = mapped_column(Text, default="")
    looked_at: Mapped[float | None]
    next_at: Mapped[float] = mapped_column(default=0.0)
    says: Mapped[str] = mapped_column(Text, default="")
    failed: Mapped[bool] = mapped_column(default=False)
    seen: Mapped[int] = mapped_column(default=0)
    rows: Mapped[int] = mapped_column(default=0)
    base: Mapped[list[Any]] = mapped_column(default=list)


class SheetKey(Base):
    """A key by which another program reads a sheet, or also writes into it; only its SHA-256 is kept."""

    __tablename__ = "sheet_keys"
    __table_args__ = (Index("keys_of_sheet", "sheet"),)
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    sheet: Mapped[str] = mapped_column(ForeignKey("sheets.key", ondelete="CASCADE"))
    may: Mapped[str] = mapped_column(String(10))
    name: Mapped[str] = mapped_column(String(80))
    made_at: Mapped[float]
    made_by: Mapped[str] = mapped_column(String(200))
    used_at: Mapped[float | None]


class AssistantKey(Base):
    """A key by which an assistant outside runs the workflows that are offered: those of a brand, or (``None``) all. Only its SHA-256
    is kept."""

    __tablename__ = "assistant_keys"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    name: Mapped[str] = mapped_column(String(80))
    brand: Mapped[str | None] = mapped_column(String(60))
    made_at: Mapped[float]
    made_by: Mapped[str] = mapped_column(String(200))
    used_at: Mapped[float | None]


class HubLine(Base):
    """That a hub was asked to tell a workflow's start of what is new (WebSub): when, until when it agreed to, and what it last said
    where it did not."""

    __tablename__ = "hub_lines"
    workflow_id: Mapped[int] = mapped_column(ForeignKey("workflows.id", ondelete="CASCADE"), primary_key=True)
    hub: Mapped[str] = mapped_column(Text)
    topic: Mapped[str] = mapped_column(Text)
    asked_at: Mapped[float]
    until: Mapped[float | None]
    told_at: Mapped[float | None]
    says: Mapped[str] = mapped_column(String(500), default="")


class Tally(Base):
    """How many there are, kept by triggers: ``runs`` of a workflow by state, ``rows`` of a sheet, ``row changes`` ever made."""

    __tablename__ = "tallies"
    what: Mapped[str] = mapped_column(String(20), primary_key=True)
    of: Mapped[str] = mapped_column(String(60), primary_key=True)
    state: Mapped[str] = mapped_column(String(20), primary_key=True)
    n: Mapped[int]


class Audit(Base):
    __tablename__ = "audit"
    __table_args__ = (Index("audit_in_time", "at", "id"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[float]
    who: Mapped[str] = mapped_column(String(200))
    did: Mapped[str] = mapped_column(String(60))
    what: Mapped[str] = mapped_column(Text, default="")
    place: Mapped[str] = mapped_column(String(60), default="", server_default="")
    """The address it was done from; empty where the house did it itself."""
