-- The log of the mountain rescue service: another organisation's database, which knows huts by their code and members of the
-- club by their number. Invented.

create table callouts (
  id integer primary key,
  hut_code text not null,
  -- Whom it was for, if that was a member.
  member_no bigint,
  called_at timestamp not null,
  ended_at timestamp,
  kind text not null check (kind in ('search', 'injury', 'storm', 'false alarm')),
  severity integer not null check (severity between 1 and 5),
  report text
);
create index callouts_hut on callouts (hut_code, called_at);
create index callouts_member on callouts (member_no);

create table rescuers (
  id integer primary key,
  name text not null,
  base text not null,
  since date not null
);

create table callout_rescuers (
  callout_id integer not null references callouts,
  rescuer_id integer not null references rescuers,
  hours decimal(4,1) not null,
  primary key (callout_id, rescuer_id)
) without rowid;
create index callout_rescuers_rescuer on callout_rescuers (rescuer_id);
