create trigger bookings_are_logged after insert on bookings
begin
    insert into booking_log(booking_id, what) values (new.id, 'booked; ' || new.seats || ' seats');
end;

create trigger payments_are_logged after update of paid on bookings
when new.paid is not old.paid
begin
    insert into booking_log(booking_id, what)
    values (new.id, case when new.paid is null then 'payment taken back' else 'paid ' || new.paid end);
end;

create trigger no_booking_on_cancelled before insert on bookings
when (select status from sailings where id = new.sailing_id) = 'cancelled'
begin
    select raise(abort, 'that sailing is cancelled');
end;
