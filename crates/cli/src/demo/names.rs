//! The invented names of the world.

/// A port: code, name, name in the local script, latitude, longitude, note.
type Port = (&'static str, &'static str, &'static str, f64, f64, Option<&'static str>);

/// The ports.
pub const PORTS: &[Port] = &[
    ("SMQ", "Saltmarsh Quay", "Saltmarsh Quay", 51.412, 1.083, Some("home port; the office is above the ticket hall")),
    ("GUL", "Gullhaven", "Гавань Чаек", 52.950, 3.204, Some("tidal: no deep draught two hours around low water")),
    ("EMB", "Emberwick", "Emberwick", 53.881, 0.417, None),
    ("SHI", "Shiomura Pier", "潮村桟橋", 50.202, 2.771, Some("signs in two scripts")),
    ("ALM", "Almyrini", "Αλμυρινή", 49.618, 1.942, Some("no bunkering after dusk")),
    ("MLH", "Marsa Milha", "مرسى ملحة", 49.107, 3.338, None),
    ("TID", "Tidewater Green", "Tidewater Green", 51.004, 0.229, Some("car deck only")),
    ("NML", "Nemalia", "נמליה", 50.660, 3.915, None),
    ("FYR", "Fyrlund", "Fyrlund Færgeleje", 54.220, 4.006, Some("closed while ice is reported")),
    ("KSR", "Khara Sagar", "खारा सागर", 49.902, 0.551, None),
    ("LNT", "Lanternhook", "Lanternhook", 52.118, 2.302, Some("the light is out every third winter")),
    ("OYS", "Oystergate", "Oystergate", 51.730, 1.655, None),
];

/// Vessels: name, year built, length in metres, passengers, cars.
pub const VESSELS: &[(&str, i64, f64, i64, i64)] = &[
    ("Patient Heron", 1998, 112.4, 820, 160),
    ("Marsh Harrier", 2004, 98.7, 640, 120),
    ("Lady of the Flats", 1987, 76.2, 410, 64),
    ("Brackish", 2015, 134.9, 1180, 240),
    ("Silt & Sun", 2019, 141.0, 1320, 260),
    ("Old Ferryman's Debt", 1979, 61.5, 290, 36),
    ("Samphire", 2011, 104.3, 700, 140),
    ("Quiet Bell", 2008, 88.8, 520, 96),
];

/// First names.
pub const FIRST: &[&str] = &[
    "Ada",
    "Bram",
    "Cato",
    "Dilys",
    "Edda",
    "Fenn",
    "Greta",
    "Hamo",
    "Isolde",
    "Jory",
    "Kezia",
    "Lorcan",
    "Maud",
    "Nils",
    "Orla",
    "Piers",
    "Quilla",
    "Rowan",
    "Sunniva",
    "Tamsin",
    "Ulf",
    "Vesna",
    "Wilf",
    "Xenia",
    "Yrsa",
    "Zeno",
    "Ясна",
    "遥",
    "Δάφνη",
    "ليلى",
    "नीरा",
    "נועם",
];

/// Last names.
pub const LAST: &[&str] = &[
    "Alder", "Bittern", "Coble", "Dunlin", "Eelgrass", "Fathom", "Godwit", "Haar", "Ingle", "Jetty", "Keelson",
    "Lantern", "Mudd", "Nessling", "Ooze", "Plover", "Quay", "Reedham", "Saltern", "Tern", "Undertow", "Vane", "Whelk",
    "Yawl",
];

/// Roles of the crew, highest first.
pub const ROLES: &[&str] =
    &["master", "chief officer", "chief engineer", "second engineer", "boatswain", "steward", "deckhand"];

/// What happens at sea: what, and how grave.
pub const INCIDENTS: &[(&str, &str)] = &[
    ("fog", "low"),
    ("late tug", "low"),
    ("bow door sensor", "high"),
    ("galley smoke", "high"),
    ("passenger unwell", "medium"),
    ("drifting net", "medium"),
    ("steering pump", "high"),
    ("seagull in the wheelhouse", "low"),
];
