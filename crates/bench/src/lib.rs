//! What the measurements share. `cargo bench -p jaunty-bench` runs them all; `benches/floors.rs`
//! says what each measures.

pub mod kernels;
pub mod measured;
pub mod postgres;
pub mod program;
