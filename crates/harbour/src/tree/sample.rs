//! The files that every user of a simulated machine finds.

/// Name and content of every file there is.
pub const FILES: [(&str, &str); 4] = [
    (
        "lamp.conf",
        "# main lamp\nflash = \"group (2) every 10 s\"\nrange = \"18 nautical miles\"\nlens = \"third order\"\n",
    ),
    (
        "log.txt",
        "03:10 lamp lit\n03:40 fog from the west, horn started\n05:55 horn stopped\n06:20 lamp out\n",
    ),
    ("notice.txt", "Låmp øil is délivered on the first of the month — keep the pier clear. 灯台\n"),
    ("tides.csv", "time,height_m\n00:12,3.4\n06:25,0.9\n12:38,3.6\n18:51,0.8\n"),
];
