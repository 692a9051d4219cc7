-- A tour of Saltmarsh Line in ten statements.
-- ctrl-g runs the one at the cursor, alt-g all of them.
-- ctrl-n goes to the next one; f2 shows every key.

-- 1. Every port, in the script of the place
select code, name, local_name, latitude, longitude, berths, note
from ports;

-- 2. The board on the quay; alt-k shows how its rows are found
select * from sailing_board
where departs_at >= '2031-03-05'
order by departs_at
limit 200;

-- 3. Half a million readings; ctrl-t goes to the rows
select * from telemetry;

-- 4. What each route takes in; G in its rows draws it
select route, taken, seats from takings_by_route order by taken desc;

-- 5. Numbers, text, NULL, JSON and bytes side by side
select name, length_m, particulars, particulars ->> 'refit' as refit, pennant
from vessels;

-- 6. Who reports to whom; alt-w draws all the tables
with recursive chain(id, name, role, depth) as (
    select id, name, role, 0 from crew where reports_to is null
    union all
    select c.id, c.name, c.role, chain.depth + 1
    from crew c join chain on c.reports_to = chain.id
)
select substr('          ', 1, depth * 2) || name as name, role, depth
from chain;

-- 7. Long remarks are cut on the screen, never in what is kept
select reference, passenger, remark from bookings
where length(remark) > 200;

-- 8. A statement that changes something: pay at the ramp
update bookings set paid = seats * 12.5
where id in (select id from bookings where paid is null order by id limit 3);

-- 9. What the trigger wrote about it
select * from booking_log order by id desc limit 10;

-- 10. And without a semicolon: the last statement needs none
select what, severity, count(*) as times, min(at) as first, max(at) as last
from incidents
group by what, severity
order by times desc
