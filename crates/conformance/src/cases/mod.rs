//! The cases, by what they are about.

mod connecting;
mod results;
mod session;
mod stopping;
mod vanishing;

use crate::Case;

macro_rules! cases {
    ($($module:ident: $($name:ident),+;)+) => {
        &[$($(Case { name: stringify!($name), run: $module::$name },)+)+]
    };
}

/// All cases.
pub static CASES: &[Case] = cases! {
    results: rows_come_in_order, a_result_without_rows_has_columns, several_results_come_one_after_the_other,
        messages_come_where_the_server_sent_them, a_mistake_is_refused_and_the_session_goes_on,
        rows_before_a_mistake_stay, a_huge_value_comes_whole, values_of_every_kind_are_exact,
        how_many_rows_were_touched_is_told, columns_that_turn_up_late_stand_behind_the_others, what_comes_beside_rows_has_its_place;
    stopping: a_wish_that_is_there_already_stops_at_once, a_silent_statement_stops, a_flood_of_rows_stops,
        it_stops_when_the_sink_wants_no_more, it_stops_while_it_is_held, what_is_held_goes_on,
        finding_out_an_effect_stops, reading_the_catalog_stops, checking_stops;
    connecting: connecting_stops, nobody_listens, the_server_vanishes_while_connecting, a_one_time_code_is_asked_for,
        a_prompt_without_an_answer_gives_up;
    vanishing: a_connection_that_went_away_at_rest_is_found, it_vanishes_while_silent, it_vanishes_while_rows_come,
        it_vanishes_while_it_is_held, it_vanishes_inside_a_transaction, it_vanishes_before_an_effect_is_known,
        it_vanishes_before_the_catalog_is_read;
    session: transactions_are_known_without_asking, nothing_is_sent_but_the_statement, a_read_only_session_writes_nothing,
        an_effect_changes_nothing, a_check_runs_nothing, values_go_beside_the_statement,
        a_value_that_is_missing_is_refused, what_goes_on_is_one_statement, what_is_there_can_be_chosen,
        the_catalog_has_an_end_and_what_was_made, an_object_can_be_looked_at;
};
