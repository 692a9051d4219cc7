//! Places: points, what lies in a shape, and how far things are from each other.

use super::failure::Failure;
use super::value::{Document, Value, field};

/// The earth's radius in metres, as the server has it.
const RADIUS: f64 = 6_378_100.0;

/// Longitude and latitude, in degrees.
pub type Point = (f64, f64);

fn pair(value: &Value) -> Option<Point> {
    match value.as_array()? {
        [longitude, latitude, ..] => Some((longitude.as_f64()?, latitude.as_f64()?)),
        _ => None,
    }
}

/// The point that a value is: a list of two numbers, a document of two, or a GeoJSON point.
pub fn point(value: &Value) -> Option<Point> {
    match value {
        Value::Document(shape) => match field(shape, "coordinates") {
            Some(at) => pair(at).filter(|_| field(shape, "type").and_then(Value::as_text) == Some("Point")),
            None => match shape.as_slice() {
                [(_, longitude), (_, latitude), ..] => Some((longitude.as_f64()?, latitude.as_f64()?)),
                _ => None,
            },
        },
        other => pair(other),
    }
}

/// Metres between two points on a sphere.
pub fn metres(from: Point, to: Point) -> f64 {
    let (left, right) = (from.1.to_radians(), to.1.to_radians());
    let (high, wide) = ((right - left) / 2.0, (to.0 - from.0).to_radians() / 2.0);
    let half = high.sin().powi(2) + left.cos() * right.cos() * wide.sin().powi(2);
    2.0 * RADIUS * half.sqrt().min(1.0).asin()
}

/// What `$near` wants.
pub struct Near {
    from: Point,
    least: f64,
    most: f64,
}

impl Near {
    /// Reads `{ $geometry: …, $maxDistance: … }`, or a list of two numbers with the distances beside it.
    pub fn read(argument: &Value, beside: &Document) -> Result<Near, Failure> {
        let (at, limits) = match argument.as_document().and_then(|inside| Some((field(inside, "$geometry")?, inside))) {
            Some((at, inside)) => (at, inside),
            None => (argument, beside),
        };
        let from = point(at).ok_or_else(|| Failure::bad("$near needs a point"))?;
        // Without GeoJSON distances are in radians.
        let unit = if at.as_document().is_some() { 1.0 } else { RADIUS };
        let limit = |name: &str| field(limits, name).and_then(Value::as_f64).map(|limit| limit * unit);
        Ok(Near { from, least: limit("$minDistance").unwrap_or(0.0), most: limit("$maxDistance").unwrap_or(f64::MAX) })
    }

    /// How far a value is, if it is not too far.
    pub fn distance(&self, value: &Value) -> Option<f64> {
        Some(metres(self.from, point(value)?)).filter(|distance| (self.least..=self.most).contains(distance))
    }
}

/// An area.
pub enum Shape {
    Circle(Point, f64),
    /// Rings: what is in the first and in none of the others.
    Polygons(Vec<Vec<Vec<Point>>>),
    At(Point),
}

impl Shape {
    /// Reads the argument of `$geoWithin` and `$geoIntersects`.
    pub fn read(argument: &Value) -> Result<Shape, Failure> {
        let wrong = || Failure::bad("unknown geo specifier, or one that this server does not have");
        let shape = argument.as_document().ok_or_else(wrong)?;
        if let Some([middle, radius]) = field(shape, "$centerSphere").and_then(Value::as_array) {
            let radius = radius.as_f64().ok_or_else(wrong)? * RADIUS;
            return Ok(Shape::Circle(point(middle).ok_or_else(wrong)?, radius));
        }
        if let Some([low, high]) = field(shape, "$box").and_then(Value::as_array) {
            let ((left, bottom), (right, top)) = (pair(low).ok_or_else(wrong)?, pair(high).ok_or_else(wrong)?);
            return Ok(Shape::Polygons(vec![vec![vec![(left, bottom), (right, bottom), (right, top), (left, top)]]]));
        }
        let geometry = field(shape, "$geometry").and_then(Value::as_document).ok_or_else(wrong)?;
        let coordinates = field(geometry, "coordinates").ok_or_else(wrong)?;
        let rings = |value: &Value| -> Option<Vec<Vec<Point>>> {
            value.as_array()?.iter().map(|ring| ring.as_array()?.iter().map(pair).collect()).collect()
        };
        match field(geometry, "type").and_then(Value::as_text) {
            Some("Polygon") => Ok(Shape::Polygons(vec![rings(coordinates).ok_or_else(wrong)?])),
            Some("MultiPolygon") => {
                let all = coordinates.as_array().and_then(|all| all.iter().map(rings).collect());
                Ok(Shape::Polygons(all.ok_or_else(wrong)?))
            }
            Some("Point") => Ok(Shape::At(pair(coordinates).ok_or_else(wrong)?)),
            _ => Err(wrong()),
        }
    }

    /// Whether a point lies in it; other values do not.
    pub fn holds(&self, value: &Value) -> bool {
        let Some(at) = point(value) else { return false };
        match self {
            Shape::Circle(middle, radius) => metres(*middle, at) <= *radius,
            Shape::At(own) => *own == at,
            Shape::Polygons(all) => all.iter().any(|rings| {
                rings
                    .split_first()
                    .is_some_and(|(outer, holes)| is_inside(outer, at) && !holes.iter().any(|hole| is_inside(hole, at)))
            }),
        }
    }
}

/// By counting the edges that a ray to the east crosses.
fn is_inside(ring: &[Point], (x, y): Point) -> bool {
    let mut inside = false;
    for (number, (x1, y1)) in ring.iter().enumerate() {
        let Some((x2, y2)) = ring.get((number + 1) % ring.len()) else { continue };
        if (*y1 > y) != (*y2 > y) && x < (x2 - x1) * (y - y1) / (y2 - y1) + x1 {
            inside = !inside;
        }
    }
    inside
}
