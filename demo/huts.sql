-- A network of mountain huts. Invented.

create table regions (
  id integer primary key,
  name text not null unique,
  -- A region may lie within another.
  parent_id integer references regions
);

create table wardens (
  id integer primary key,
  name text not null,
  email text not null unique collate nocase,
  since date not null,
  licence uuid
);

create table huts (
  id integer primary key,
  code text not null unique,
  name text not null,
  region_id integer not null references regions,
  warden_id integer references wardens,
  altitude integer not null,
  beds integer not null default 20 check (beds > 0),
  opens time,
  closes time,
  staffed boolean not null default 1,
  price_per_night decimal(8,2) not null,
  facilities json,
  photo blob,
  notes text
);
create index huts_region on huts (region_id);
create index huts_warden on huts (warden_id);

create table hikers (
  id integer primary key,
  name text not null,
  email text unique,
  phone text,
  born date,
  member_no bigint unique,
  created_at timestamp not null default current_timestamp
);

create table bookings (
  id integer primary key,
  hut_id integer not null references huts on delete cascade,
  hiker_id integer not null references hikers,
  guide_id integer references hikers,
  starts_on date not null,
  nights integer not null default 1,
  guests integer not null default 1,
  status text not null default 'requested' check (status in ('requested', 'confirmed', 'declined', 'no show')),
  price decimal(8,2),
  note text,
  unique (hut_id, hiker_id, starts_on)
);
create index bookings_hut on bookings (hut_id);
create index bookings_hiker on bookings (hiker_id);
create index bookings_guide on bookings (guide_id);

create table trails (
  id integer primary key,
  name text not null unique,
  grade text not null check (grade in ('T1', 'T2', 'T3', 'T4')),
  length_km real not null,
  starts_at_id integer references huts,
  ends_at_id integer references huts
);

create table trail_huts (
  trail_id integer not null references trails,
  hut_id integer not null references huts,
  position integer not null,
  primary key (trail_id, hut_id)
) without rowid;
create index trail_huts_hut on trail_huts (hut_id);

-- Many to many without anything beside it.
create table hiker_badges (
  hiker_id integer not null references hikers,
  badge_id integer not null references badges,
  primary key (hiker_id, badge_id)
) without rowid;
create index hiker_badges_badge on hiker_badges (badge_id);

create table badges (
  id integer primary key,
  title text not null
) strict;

create table supplies (
  hut_id integer not null references huts,
  item text not null,
  quantity integer not null,
  unit text not null,
  best_before date,
  primary key (hut_id, item)
) without rowid;

-- Composite foreign key, to a composite key.
create table supply_deliveries (
  id integer primary key,
  hut_id integer not null,
  item text not null,
  quantity integer not null,
  delivered_at timestamp not null,
  foreign key (hut_id, item) references supplies (hut_id, item)
);
create index supply_deliveries_supply on supply_deliveries (hut_id, item);

create table weather_readings (
  id integer primary key,
  hut_id integer not null references huts,
  taken_at timestamp not null,
  temperature real not null,
  wind_kmh integer,
  snow_cm integer,
  raw_counter bigint not null
);
create index weather_readings_hut on weather_readings (hut_id, taken_at);
create index weather_readings_taken on weather_readings (taken_at);

-- What was written down of each, as the wardens' form has it.
create table incidents (
  id integer primary key,
  hut_id integer not null references huts (id),
  hiker_id integer references hikers (id),
  reported_at timestamp not null,
  report json not null
);
create index incidents_hut on incidents (hut_id);
create index incidents_hiker on incidents (hiker_id);

-- A table without a key, whose hut is named by code and not by a foreign key.
create table incident_log (
  hut_code text,
  at timestamp,
  report json,
  severity
);

create view occupancy as
  select h.id as hut_id, h.name as hut_name, b.starts_on as night, sum(b.guests) as guests, h.beds as beds
  from huts as h join bookings as b on b.hut_id = h.id
  where b.status = 'confirmed'
  group by h.id, b.starts_on;
