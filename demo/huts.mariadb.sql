-- The mountain huts in MariaDB's own types. Same tables, same rows as in huts.sql.

create table regions (
  id int auto_increment primary key,
  name varchar(100) not null unique,
  parent_id int comment 'A region may lie within another.' references regions (id)
);

create table wardens (
  id int auto_increment primary key,
  name text not null,
  email varchar(200) not null unique,
  since date not null,
  licence uuid
);

create table huts (
  id int auto_increment primary key,
  code varchar(10) not null unique,
  name text not null,
  region_id int not null references regions (id),
  warden_id int references wardens (id),
  altitude int not null,
  beds int not null default 20 comment 'Places to sleep, the winter room included.' check (beds > 0),
  opens time,
  closes time,
  staffed boolean not null default true,
  price_per_night decimal(8,2) not null,
  facilities json,
  photo blob,
  notes text
) comment 'A place to sleep in the mountains.';
create index huts_region on huts (region_id);
create index huts_warden on huts (warden_id);

create table hikers (
  id int auto_increment primary key,
  name text not null,
  email varchar(200) unique,
  phone text,
  born date,
  member_no bigint unique,
  created_at datetime not null default current_timestamp
);

create table bookings (
  id int auto_increment primary key,
  hut_id int not null references huts (id) on delete cascade,
  hiker_id int not null references hikers (id),
  guide_id int references hikers (id),
  starts_on date not null,
  nights int not null default 1,
  guests int not null default 1,
  status enum ('requested', 'confirmed', 'declined', 'no show') not null default 'requested',
  price decimal(8,2),
  note text,
  unique (hut_id, hiker_id, starts_on)
);
create index bookings_hut on bookings (hut_id, id);
create index bookings_hiker on bookings (hiker_id);
create index bookings_guide on bookings (guide_id);

create table trails (
  id int auto_increment primary key,
  name varchar(100) not null unique,
  grade text not null check (grade in ('T1', 'T2', 'T3', 'T4')),
  length_km double not null,
  starts_at_id int references huts (id),
  ends_at_id int references huts (id)
);

create table trail_huts (
  trail_id int not null references trails (id),
  hut_id int not null references huts (id),
  position int not null,
  primary key (trail_id, hut_id)
);
create index trail_huts_hut on trail_huts (hut_id);

create table badges (
  id int auto_increment primary key,
  title text not null
);

create table hiker_badges (
  hiker_id int not null references hikers (id),
  badge_id int not null references badges (id),
  primary key (hiker_id, badge_id)
);
create index hiker_badges_badge on hiker_badges (badge_id);

create table supplies (
  hut_id int not null references huts (id),
  item varchar(50) not null,
  quantity int not null,
  unit text not null,
  best_before date,
  primary key (hut_id, item)
);

create table supply_deliveries (
  id int auto_increment primary key,
  hut_id int not null,
  item varchar(50) not null,
  quantity int not null,
  delivered_at datetime not null,
  foreign key (hut_id, item) references supplies (hut_id, item)
);
create index supply_deliveries_supply on supply_deliveries (hut_id, item);

create table weather_readings (
  id int auto_increment primary key,
  hut_id int not null references huts (id),
  taken_at datetime not null,
  temperature double not null,
  wind_kmh int,
  snow_cm int,
  raw_counter bigint not null
);
create index weather_readings_hut on weather_readings (hut_id, taken_at);
create index weather_readings_taken on weather_readings (taken_at);

create table incidents (
  id int auto_increment primary key,
  hut_id int not null references huts (id),
  hiker_id int references hikers (id),
  reported_at datetime not null,
  report json not null
);
create index incidents_hut on incidents (hut_id);
create index incidents_hiker on incidents (hiker_id);

create table incident_log (
  hut_code varchar(10),
  at datetime,
  report json,
  severity json
);

create view occupancy as
  select h.id as hut_id, h.name as hut_name, b.starts_on as night, sum(b.guests) as guests, h.beds as beds
  from huts as h join bookings as b on b.hut_id = h.id
  where b.status = 'confirmed'
  group by h.id, h.name, h.beds, b.starts_on;
