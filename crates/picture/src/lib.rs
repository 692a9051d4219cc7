//! Pictures as a scene of rectangles, paths and text, and what is made of a scene: SVG, PDF, and the cells of a
//! terminal. Nothing here knows what is drawn.

pub mod cells;
pub mod font;
pub mod pdf;
pub mod scene;
pub mod svg;

pub use scene::{Anchor, Item, Look, Metrics, Paint, Scene};
