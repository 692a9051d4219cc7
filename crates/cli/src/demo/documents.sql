-- The collections of the demonstration as documents, one a row: the name of the collection, and Extended JSON.

select 'ports', json_object(
    '_id', code, 'name', name, 'local_name', local_name, 'berths', berths,
    'place', json_object('type', 'Point', 'coordinates', json_array(longitude, latitude)),
    'note', note)
from ports
where note is not null
union all
-- No field at all where there is nothing to say.
select 'ports', json_object(
    '_id', code, 'name', name, 'local_name', local_name, 'berths', berths,
    'place', json_object('type', 'Point', 'coordinates', json_array(longitude, latitude)))
from ports
where note is null
union all
select 'vessels', json_object(
    '_id', id, 'name', name, 'built', built, 'length_m', length_m,
    'room', json_object('passengers', passengers, 'cars', cars),
    'particulars', json(particulars),
    'pennant', json_object('$binary', json_object('base64', base64(pennant), 'subType', '00')))
from vessels
union all
select * from (select 'sailings', json_object(
    '_id', s.id,
    'route', json_object('name', r.name, 'from', f.code, 'to', t.code, 'distance_nm', r.distance_nm),
    'vessel', v.name,
    'departs_at', json_object('$date', replace(s.departs_at, ' ', 'T') || 'Z'),
    'arrives_at', iif(s.arrives_at is null, null, json_object('$date', replace(s.arrives_at, ' ', 'T') || 'Z')),
    'status', s.status,
    'delay_min', s.delay_min,
    'incidents', json((select json_group_array(json_object('what', i.what, 'severity', i.severity,
        'at', json_object('$date', replace(i.at, ' ', 'T') || 'Z'))) from incidents i where i.sailing_id = s.id)))
from sailings s
join routes r on r.id = s.route_id
join ports f on f.id = r.from_port
join ports t on t.id = r.to_port
join vessels v on v.id = s.vessel_id
order by s.id)
union all
select * from (select 'bookings', json_object(
    '_id', json_object('$oid', printf('65f0c0ffee%014x', b.id)),
    'reference', b.reference, 'passenger', b.passenger, 'sailing', b.sailing_id,
    'class', b.class, 'seats', b.seats,
    'paid', iif(b.paid is null, null, json_object('$numberDecimal', printf('%.2f', b.paid))),
    'booked_at', json_object('$date', replace(b.booked_at, ' ', 'T') || 'Z'),
    'extras', json(e.extras))
from bookings b
join booking_extras e on e.booking_id = b.id
order by b.id)
union all
select 'reports', json_object(
    '_id', i.id, 'about', i.what, 'severity', i.severity, 'text', i.report,
    'sailing', json_object('_id', s.id, 'vessel', v.name))
from incidents i
join sailings s on s.id = i.sailing_id
join vessels v on v.id = s.vessel_id
