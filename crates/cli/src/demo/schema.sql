-- Saltmarsh Line: everything that the ferry company knows.

create table ports (
    id integer primary key,
    code text not null unique check (length(code) = 3), -- as painted on the quay
    name text not null,
    local_name text not null,                           -- in the script of the place
    latitude real not null,
    longitude real not null,
    berths integer not null check (berths > 0),
    note text
);

create table vessels (
    id integer primary key,
    name text not null unique,
    built integer not null,              -- year
    length_m real not null,
    passengers integer not null,
    cars integer not null,
    particulars text check (json_valid(particulars)), -- JSON
    pennant blob                         -- 8 × 8 cells, a byte each
);

create table crew (
    id integer primary key,
    vessel_id integer not null references vessels,
    reports_to integer references crew,
    name text not null,
    role text not null,
    joined_on date not null
);

create table routes (
    id integer primary key,
    from_port integer not null references ports,
    to_port integer not null references ports,
    name text not null,
    distance_nm integer not null,
    minutes integer not null,
    check (from_port <> to_port)
);

create table fares (
    id integer primary key,
    route_id integer not null references routes on delete cascade,
    class text not null check (class in ('deck', 'cabin', 'car', 'bicycle')),
    price numeric(8, 2) not null,
    valid_from date not null,
    valid_to date,                       -- none: until further notice
    unique (route_id, class, valid_from)
);

create table sailings (
    id integer primary key,
    route_id integer not null references routes,
    vessel_id integer not null references vessels,
    departs_at datetime not null,
    arrives_at datetime,                 -- none: cancelled
    status text not null check (status in ('on time', 'late', 'cancelled')),
    delay_min integer
);
create index sailings_by_departure on sailings(departs_at);
create index sailings_by_route on sailings(route_id, departs_at);

create table bookings (
    id integer primary key,
    sailing_id integer not null references sailings,
    reference text not null,
    passenger text not null,
    class text not null,
    seats integer not null check (seats between 1 and 9),
    paid numeric(8, 2),                  -- none: pays at the ramp
    booked_at datetime not null,
    remark text
);
create index bookings_by_sailing on bookings(sailing_id);

create table booking_extras (
    booking_id integer primary key references bookings on delete cascade,
    extras text not null check (json_valid(extras)) -- JSON
);

create table booking_log (
    id integer primary key,
    booking_id integer not null,
    at datetime not null default current_timestamp,
    what text not null
);

create table incidents (
    id integer primary key,
    sailing_id integer not null references sailings,
    at datetime not null,
    what text not null,
    severity text not null,
    report text
);

-- One reading a minute for every vessel.
create table telemetry (
    id integer primary key,
    vessel_id integer not null references vessels,
    at datetime not null,
    rpm integer not null,
    fuel_lph real not null,              -- litres an hour
    coolant_c real,                      -- none: the sensor did not answer
    note text
);

create view sailing_board as
select s.id, s.departs_at, f.name as from_port, t.name as to_port, v.name as vessel, s.status, s.delay_min
from sailings s
join routes r on r.id = s.route_id
join ports f on f.id = r.from_port
join ports t on t.id = r.to_port
join vessels v on v.id = s.vessel_id;

create view takings_by_route as
select r.name as route, count(*) as bookings, sum(b.seats) as seats, round(sum(b.paid), 2) as taken
from bookings b
join sailings s on s.id = b.sailing_id
join routes r on r.id = s.route_id
group by r.id;
