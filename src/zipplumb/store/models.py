"""Tables. Raw readings are only ever added; what a person changes about them is a mark."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import (
    BigInteger,
    Boolean,
    CheckConstraint,
    ColumnElement,
    DateTime,
    Double,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    String,
    Text,
    UniqueConstraint,
    func,
    select,
)
from sqlalchemy.dialects.postgresql import ARRAY, JSONB
from sqlalchemy.ext.hybrid import hybrid_property
from sqlalchemy.orm import DeclarativeBase, InstrumentedAttribute, Mapped, aliased, deferred, mapped_column, relationship

from ..core.tolerances.decision import Rule
from ..core.units import Units

SILENT = timedelta(seconds=3)  # an instrument of which the link has said nothing for so long is lost


class Base(DeclarativeBase):
    type_annotation_map = {datetime: DateTime(timezone=True), dict[str, Any]: JSONB, list[Any]: JSONB, str: Text}


def made_at() -> Mapped[datetime]:
    """A column of when a row was written."""
    return mapped_column(DateTime(timezone=True), server_default=func.now())


class User(Base):
    __tablename__ = "users"
    id: Mapped[int] = mapped_column(primary_key=True)
    login: Mapped[str] = mapped_column(String(60), unique=True)
    name: Mapped[str]
    role: Mapped[str] = mapped_column(String(20))
    password_hash: Mapped[str]
    active: Mapped[bool] = mapped_column(Boolean, server_default="true")
    single_keys: Mapped[bool] = mapped_column(Boolean, server_default="true")  # letters without Ctrl or Alt act


class SignedIn(Base):
    """A session of a person; ``token`` is the hash of what the browser has."""

    __tablename__ = "signed_in"
    id: Mapped[int] = mapped_column(primary_key=True)
    user_id: Mapped[int] = mapped_column(ForeignKey("users.id"), index=True)
    token: Mapped[str] = mapped_column(String(64), unique=True)
    address: Mapped[str] = mapped_column(String(60), server_default="")
    at: Mapped[datetime] = made_at()
    seen_at: Mapped[datetime] = made_at()
    ended_at: Mapped[datetime | None]


class SignInAttempt(Base):
    """``address``: of whom it came, or the browser or session that is known (see jobs/attempts)."""

    __tablename__ = "sign_in_attempts"
    __table_args__ = (Index("sign_in_attempts_lookup", "login", "at"), Index("sign_in_attempts_of_place", "address", "at"))
    id: Mapped[int] = mapped_column(primary_key=True)
    login: Mapped[str] = mapped_column(String(60))
    address: Mapped[str] = mapped_column(String(60))
    succeeded: Mapped[bool]
    at: Mapped[datetime] = made_at()


class Change(Base):
    """Who changed what, when."""

    __tablename__ = "changes"
    __table_args__ = (Index("changes_at", "job_id", "at"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[datetime] = made_at()
    user_id: Mapped[int | None] = mapped_column(ForeignKey("users.id"))
    job_id: Mapped[int | None] = mapped_column(Integer, index=True)
    act: Mapped[str] = mapped_column(String(60))
    detail: Mapped[dict[str, Any]] = mapped_column(JSONB, server_default="{}")


class Part(Base):
    """A CAD file as it came, and what reading it gave."""

    __tablename__ = "parts"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    file_name: Mapped[str]
    sha256: Mapped[str] = mapped_column(String(64))
    state: Mapped[str] = mapped_column(String(20), server_default="importing")
    share: Mapped[float] = mapped_column(Float, server_default="0")
    words: Mapped[str] = mapped_column(Text, server_default="")
    units: Mapped[str | None] = mapped_column(String(20))
    bodies: Mapped[list[Any]] = mapped_column(JSONB, server_default="[]")
    missing: Mapped[list[Any]] = mapped_column(JSONB, server_default="[]")
    edges: Mapped[list[Any]] = mapped_column(JSONB, server_default="[]", deferred=True)
    callouts: Mapped[dict[str, Any]] = mapped_column(JSONB, server_default="{}", deferred=True)
    faces: Mapped[list[Any]] = deferred(mapped_column(JSONB, server_default="[]"))
    model: Mapped[bytes | None] = deferred(mapped_column(LargeBinary))
    splines: Mapped[bytes | None] = deferred(mapped_column(LargeBinary))
    created_at: Mapped[datetime] = made_at()


class PartFile(Base):
    """A piece of a CAD file as it came."""

    __tablename__ = "part_files"
    part_id: Mapped[int] = mapped_column(ForeignKey("parts.id", ondelete="CASCADE"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    piece: Mapped[bytes] = mapped_column(LargeBinary)


class Job(Base):
    """One piece, measured by a plan. Pieces of one job have the same ``first_id``, None on the first itself, and the same
    ``name``; ``serial`` and ``identity`` (name and value, a pair each) tell them apart; ``plan_id``: the job's plan as it was
    taken over last.

    ``touching``: "space" or "plane" while hits go to what they fit there; "" while they follow the sheet.

    ``chain``: how dimensions follow the features; ``rule``: by which is decided what is in and what is out;
    ``handed_over``: how often hits went from one row to another, so that whoever keeps them by row knows.
    """

    __tablename__ = "jobs"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    part_id: Mapped[int] = mapped_column(ForeignKey("parts.id"))
    units: Mapped[Units] = mapped_column(String(2), server_default="mm")
    current_row_id: Mapped[int | None] = mapped_column(ForeignKey("rows.id", use_alter=True))
    alignment_row_id: Mapped[int | None] = mapped_column(ForeignKey("rows.id", use_alter=True))
    kept_bodies: Mapped[list[Any] | None] = mapped_column(JSONB)
    touching: Mapped[str] = mapped_column(String(5), server_default="")
    chain: Mapped[dict[str, Any]] = mapped_column(JSONB, server_default="{}")
    rule: Mapped[Rule] = mapped_column(String(10), server_default="proven")
    placing: Mapped[dict[str, Any]] = mapped_column(JSONB, server_default="{}")
    handed_over: Mapped[int] = mapped_column(server_default="0")
    archived_at: Mapped[datetime | None]
    removed_at: Mapped[datetime | None]
    removed_by: Mapped[int | None] = mapped_column(ForeignKey("users.id"))
    created_by: Mapped[int | None] = mapped_column(ForeignKey("users.id"))
    created_at: Mapped[datetime] = made_at()
    first_id: Mapped[int | None] = mapped_column(ForeignKey("jobs.id"))
    serial: Mapped[str] = mapped_column(Text, server_default="")
    identity: Mapped[list[Any]] = mapped_column(JSONB, server_default="[]")
    plan_id: Mapped[int | None]  # see store/pieces
    part: Mapped[Part] = relationship()

    @hybrid_property
    def of_job(self) -> int:
        """The first piece's id, by which all pieces of a job are one."""
        return self.first_id or self.id

    @of_job.inplace.expression
    @classmethod
    def _of_job(cls) -> ColumnElement[int]:
        return func.coalesce(cls.first_id, cls.id)

    @property
    def called(self) -> str:
        """With the serial number of the piece, where it has one."""
        return f"{self.name}, {self.serial}" if self.serial else self.name


class Row(Base):
    """One row of the run sheet. Removed rows stay, with their readings.

    ``taken_over_by``: of a removed one, the row that its hits belong to now, see the ``hits_of`` of that row's recipe.
    ``plan_row``: what it is in the job's plan, the same in all pieces; None: its own id.
    """

    __tablename__ = "rows"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"), index=True)
    position: Mapped[int]
    recipe: Mapped[dict[str, Any]] = mapped_column(JSONB)
    finished_at: Mapped[datetime | None]
    removed_at: Mapped[datetime | None]
    planned_by: Mapped[int | None] = mapped_column(ForeignKey("changes.id"))
    taken_over_by: Mapped[int | None] = mapped_column(ForeignKey("rows.id"))
    plan_row: Mapped[int | None]

    @property
    def in_plan(self) -> int:
        return self.plan_row or self.id

    @classmethod
    def of_hits(cls, read_for: InstrumentedAttribute[int | None]) -> ColumnElement[bool]:
        """The row that readings belong to now: what they were read for, or the one that has taken it over."""
        source = aliased(cls)
        now = select(func.coalesce(source.taken_over_by, source.id)).where(source.id == read_for).scalar_subquery()
        return cls.id == now


class Probe(Base):
    __tablename__ = "probes"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    kind: Mapped[str] = mapped_column(String(20))
    diameter_mm: Mapped[float]
    drawn_offset_mm: Mapped[list[float]] = mapped_column(ARRAY(Double), server_default="{0,0,180}")
    maker_states: Mapped[dict[str, Any] | None] = mapped_column(JSONB(none_as_null=True))  # of a scanner: core.cloud.head
    removed_at: Mapped[datetime | None]


class Calibration(Base):
    """A probe's calibration on an instrument. ``method``: pivot, sphere, scanner, stated (a reflector), drawn (none was made).

    ``doubt``: why what was measured with it is in doubt. ``removed_at``: out of the history; readings keep it.
    """

    __tablename__ = "calibrations"
    id: Mapped[int] = mapped_column(primary_key=True)
    probe_id: Mapped[int] = mapped_column(ForeignKey("probes.id"))
    offset_mm: Mapped[list[float]] = mapped_column(ARRAY(Double))
    diameter_mm: Mapped[float]
    rms_mm: Mapped[float]
    u_radius_mm: Mapped[float]
    made_at: Mapped[datetime] = made_at()
    note: Mapped[str] = mapped_column(Text, server_default="")
    instrument_id: Mapped[int | None] = mapped_column(ForeignKey("instruments.id", use_alter=True))
    method: Mapped[str] = mapped_column(String(10), server_default="sphere")
    u_offset_mm: Mapped[float] = mapped_column(Double, server_default="0")
    largest_mm: Mapped[float] = mapped_column(Double, server_default="0")
    limit_mm: Mapped[float] = mapped_column(Double, server_default="0.025")
    detail: Mapped[dict[str, Any]] = mapped_column(JSONB, server_default="{}")
    temperature_c: Mapped[float | None]
    doubt: Mapped[str] = mapped_column(Text, server_default="")
    removed_at: Mapped[datetime | None]
    probe: Mapped[Probe] = relationship(lazy="selectin")


class Instrument(Base):
    """An instrument, where it is reached, and how the link last saw it."""

    __tablename__ = "instruments"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    kind: Mapped[str] = mapped_column(String(20))
    host: Mapped[str]
    port: Mapped[int]
    u_hit_mm: Mapped[float]
    calibration_id: Mapped[int | None] = mapped_column(ForeignKey("calibrations.id"))
    station_id: Mapped[int | None] = mapped_column(ForeignKey("stations.id", use_alter=True))
    link_up: Mapped[bool] = mapped_column("connected", Boolean, server_default="false")
    seen_at: Mapped[datetime | None]
    serial: Mapped[str] = mapped_column(Text, server_default="")
    temperature_c: Mapped[float | None]
    trouble: Mapped[str] = mapped_column(Text, server_default="")
    model: Mapped[str] = mapped_column(Text, server_default="")
    axes: Mapped[int] = mapped_column(Integer, server_default="0")
    spec: Mapped[dict[str, Any]] = mapped_column(JSONB, server_default="{}")
    pressure_hpa: Mapped[float | None]
    humidity_percent: Mapped[float | None]
    target: Mapped[str] = mapped_column(String(12), server_default="")
    level: Mapped[list[float] | None] = mapped_column(ARRAY(Double))
    u_level_rad: Mapped[float] = mapped_column(Double, server_default="0")
    trial_id: Mapped[int | None] = mapped_column(ForeignKey("trials.id", use_alter=True))
    asked: Mapped[dict[str, Any] | None] = mapped_column(JSONB(none_as_null=True))  # to look at, until its link has asked it
    asked_at: Mapped[datetime | None]
    removed_at: Mapped[datetime | None]
    calibration: Mapped[Calibration | None] = relationship(lazy="selectin", foreign_keys=[calibration_id])

    @property
    def connected(self) -> bool:
        """The link says so, and has said so lately: one that hangs says nothing."""
        return self.link_up and self.seen_at is not None and datetime.now(UTC) - self.seen_at < SILENT


class Station(Base):
    """An instrument standing at one place of one job. ``brought_at``: of those that stand there the newest is measured with."""

    __tablename__ = "stations"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"), index=True)
    instrument_id: Mapped[int] = mapped_column(ForeignKey("instruments.id"))
    name: Mapped[str]
    created_at: Mapped[datetime] = made_at()
    brought_at: Mapped[datetime] = made_at()


class Detail(Base):
    """Something movable of a job, with its targets and adjusters. ``rounds``: the turns of each, and what was seen before.
    ``first``: where its targets were when they were seen first; ``fixed_at``: since when nothing of it is moved."""

    __tablename__ = "details"
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id"), index=True)
    recipe: Mapped[dict[str, Any]] = mapped_column(JSONB)
    rounds: Mapped[list[Any]] = mapped_column(JSONB, server_default="[]")
    first: Mapped[dict[str, Any] | None] = mapped_column(JSONB)
    fixed_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = made_at()
    removed_at: Mapped[datetime | None]


class FitterLink(Base):
    """A link by which somebody without an account sees one detail; its secret is kept as a hash."""

    __tablename__ = "fitter_links"
    id: Mapped[int] = mapped_column(primary_key=True)
    detail_id: Mapped[int] = mapped_column(ForeignKey("details.id"), index=True)
    token_hash: Mapped[str] = mapped_column(String(64), unique=True)
    created_at: Mapped[datetime] = made_at()
    withdrawn_at: Mapped[datetime | None]


class Reading(Base):
    """A batch of hits as they came: a press, the hits of one sweep, or a pull-off; of a row, or of a trial.

    ``poses`` and ``approach`` hold seven numbers per hit, one after another; NaN in
    ``approach`` where the way in is not known. ``ns`` are the device's own sample numbers.
    ``points``: a scanner's, packed (see core/stripes), ``counts`` of them to each hit. ``conditions``: what a result
    rests on, as it was when they were read: level, weather, what the maker states (see jobs/readings).
    """

    __tablename__ = "readings"
    __table_args__ = (
        UniqueConstraint("instrument_id", "session", "kind", "first_n", name="readings_once"),
        Index("readings_of_job", "job_id", "id"),
        CheckConstraint("(row_id IS NULL) <> (trial_id IS NULL)", name="readings_of_one"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    instrument_id: Mapped[int] = mapped_column(ForeignKey("instruments.id"))
    job_id: Mapped[int | None] = mapped_column(ForeignKey("jobs.id"))
    row_id: Mapped[int | None] = mapped_column(ForeignKey("rows.id"), index=True)
    trial_id: Mapped[int | None] = mapped_column(ForeignKey("trials.id"), index=True)
    station_id: Mapped[int | None] = mapped_column(ForeignKey("stations.id"))
    calibration_id: Mapped[int | None] = mapped_column(ForeignKey("calibrations.id"), index=True)
    kind: Mapped[str] = mapped_column(String(10))
    session: Mapped[str] = mapped_column(String(40))
    first_n: Mapped[int] = mapped_column(BigInteger)
    sweep: Mapped[int] = mapped_column(BigInteger)
    ns: Mapped[list[int]] = mapped_column(ARRAY(BigInteger))
    times: Mapped[list[float]] = mapped_column(ARRAY(Double))
    poses: Mapped[list[float]] = mapped_column(ARRAY(Double))
    approach: Mapped[list[float]] = mapped_column(ARRAY(Double))
    temperature_c: Mapped[float | None]
    faces: Mapped[list[int]] = mapped_column(ARRAY(Integer), server_default="{}")
    points: Mapped[bytes] = mapped_column(LargeBinary, server_default="")
    counts: Mapped[list[int]] = mapped_column(ARRAY(Integer), server_default="{}")
    conditions: Mapped[dict[str, Any]] = mapped_column(JSONB, server_default="{}")
    kept_at: Mapped[datetime] = made_at()


class InstrumentEvent(Base):
    """Something that shakes trust: a knock, the head off, a jump of the temperature."""

    __tablename__ = "instrument_events"
    id: Mapped[int] = mapped_column(primary_key=True)
    instrument_id: Mapped[int] = mapped_column(ForeignKey("instruments.id"), index=True)
    what: Mapped[str] = mapped_column(String(20))
    words: Mapped[str] = mapped_column(Text, server_default="")
    at: Mapped[datetime] = made_at()


class Trial(Base):
    """A calibration or a check under way, or its result.

    ``calibration_id``: the one checked, or made. ``found``: its outcome as it was when it ended.
    """

    __tablename__ = "trials"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str] = mapped_column(String(20))
    instrument_id: Mapped[int] = mapped_column(ForeignKey("instruments.id"), index=True)
    probe_id: Mapped[int | None] = mapped_column(ForeignKey("probes.id"))
    job_id: Mapped[int | None] = mapped_column(ForeignKey("jobs.id"))
    calibration_id: Mapped[int | None] = mapped_column(ForeignKey("calibrations.id", use_alter=True))
    settings: Mapped[dict[str, Any]] = mapped_column(JSONB, server_default="{}")
    state: Mapped[str] = mapped_column(String(12), server_default="running")
    words: Mapped[str] = mapped_column(Text, server_default="")
    result: Mapped[dict[str, Any]] = mapped_column(JSONB, server_default="{}")
    found: Mapped[dict[str, Any] | None] = mapped_column(JSONB)
    temperature_c: Mapped[float | None]
    by: Mapped[int | None] = mapped_column(ForeignKey("users.id"))
    started_at: Mapped[datetime] = made_at()
    ended_at: Mapped[datetime | None]


class Recalibration(Base):
    """Readings taken with the old calibration are evaluated with the new one, until this is taken back."""

    __tablename__ = "recalibrations"
    id: Mapped[int] = mapped_column(primary_key=True)
    old_id: Mapped[int] = mapped_column(ForeignKey("calibrations.id"))
    new_id: Mapped[int] = mapped_column(ForeignKey("calibrations.id"))
    by: Mapped[int | None] = mapped_column(ForeignKey("users.id"))
    at: Mapped[datetime] = made_at()
    taken_back_at: Mapped[datetime | None]


class Mark(Base):
    """A hit that does not count, until the mark is lifted; without ``hit`` it is every hit of its reading.

    ``row_id``: of its reading, which keeps it for ever.
    """

    __tablename__ = "marks"
    __table_args__ = (
        Index("marks_once", "reading_id", "hit", unique=True, postgresql_where="lifted_at IS NULL"),
        Index("marks_whole_once", "reading_id", unique=True, postgresql_where="hit IS NULL AND lifted_at IS NULL"),
        Index("marks_reading", "reading_id"),
        Index("marks_row", "row_id", postgresql_where="lifted_at IS NULL"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    reading_id: Mapped[int] = mapped_column(ForeignKey("readings.id"))
    row_id: Mapped[int | None] = mapped_column(ForeignKey("rows.id"))
    hit: Mapped[int | None]
    reason: Mapped[str] = mapped_column(String(10))
    by: Mapped[int | None] = mapped_column(ForeignKey("users.id"))
    at: Mapped[datetime] = made_at()
    lifted_at: Mapped[datetime | None]


class DeviceEvent(Base):
    """Button presses already carried out, so that one sent twice is done once."""

    __tablename__ = "device_events"
    instrument_id: Mapped[int] = mapped_column(ForeignKey("instruments.id"), primary_key=True)
    session: Mapped[str] = mapped_column(String(40), primary_key=True)
    number: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    at: Mapped[datetime] = made_at()
