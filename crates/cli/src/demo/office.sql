-- The office of Saltmarsh Line, in T-SQL, on a simulated server.
-- f3 chooses the connection ferry-office; GO ends a batch.

-- 1. What it holds, whatever the server calls it
select name, latitude, longitude, berths
from dbo.ports
order by name;

-- 2. A statement that uses variables takes their declarations along
declare @from date = '2031-03-05', @late int = 20
declare @until date = dateadd(day, 1, @from)

select top (100) s.id, r.name as route, s.departs_at, s.delay_min
from sailings s
join routes r on r.id = s.route_id
where s.departs_at >= @from and s.departs_at < @until and s.delay_min > @late
order by s.delay_min desc
go

-- 3. Messages, counts and results in the order in which they come
print 'Counting the fleet'
select count(*) as vessels from vessels
raiserror('%d routes are served', 10, 1, 12) with nowait
select r.name, count(*) as sailings
from routes r join sailings s on s.route_id = r.id
group by r.name
order by sailings desc
go

-- 4. A procedure, to the end of its batch
create or alter procedure dbo.late_sailings @minutes int = 30, @count int output as
begin
    set nocount on;
    select @count = count(*) from sailings where delay_min > @minutes;
    if @count = 0
        raiserror('nothing was later than %d minutes', 10, 1, @minutes);
    select top (10) id, departs_at, delay_min from sailings where delay_min > @minutes order by delay_min desc;
end
go

-- 5. It gives a value back
declare @count int
exec dbo.late_sailings @minutes = 45, @count = @count output
select @count as later_than_45_minutes
go

-- 6. What goes wrong is caught
begin try
    select nothing_of_that_name from ports
end try
begin catch
    select error_number() as number, error_message() as what
end catch
go

-- 7. How it is carried out: alt-k
select b.reference, b.passenger
from bookings b
where b.sailing_id = 4711
go

-- 8. Names reach into other databases of the server, and are completed there
select a.year, r.name as route, a.passengers, a.taken
from archive.dbo.takings a
join routes r on r.id = a.route_id
where a.year >= 2028
order by a.taken desc
