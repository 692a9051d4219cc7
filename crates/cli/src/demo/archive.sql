-- What the company has put aside: the takings of former years by route, and vessels that were sold.
create table takings (
    year       int not null,
    route_id   int not null,
    passengers int not null,
    taken      decimal(12,2) not null,
    primary key (year, route_id)
);

with recursive years(year) as (select 2019 union all select year + 1 from years where year < 2030)
insert into takings
select year, r.id,
       9000 + (r.id * 977 + year * 131) % 4000 + (year - 2019) * (150 + r.id * 13 % 90),
       round((9000 + (r.id * 977 + year * 131) % 4000 + (year - 2019) * (150 + r.id * 13 % 90)) * (4.2 + r.id % 7 * 0.65), 2)
from years, ferry.routes r;

create table vessels (
    id        int primary key,
    name      nvarchar(60) not null,
    built     int not null,
    sold_in   int not null,
    last_port nvarchar(60)
);

insert into vessels values
    (1, 'Grey Heron', 1988, 2021, 'Saltmarsh Quay'),
    (2, 'Patient Otter', 1991, 2024, null),
    (3, 'Second Wind', 1979, 2019, 'Saltmarsh Quay');

create view takings_by_year as
select year, sum(passengers) as passengers, sum(taken) as taken from takings group by year;
