//! The first users of well-known images: a hint for the commonest mistake at first login. Facts that the makers of the images publish;
//! a cloud's own console has the last word.

/// An image and the users that it comes with, the likeliest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Image {
    /// The word for it.
    pub name: &'static str,
    /// Its first users.
    pub users: &'static [&'static str],
}

/// The table.
pub static IMAGES: &[Image] = &[
    Image { name: "almalinux", users: &["almalinux", "ec2-user", "cloud-user"] },
    Image { name: "alpine", users: &["alpine", "root"] },
    Image { name: "amazon", users: &["ec2-user"] },
    Image { name: "arch", users: &["arch", "root"] },
    Image { name: "centos", users: &["centos", "ec2-user", "cloud-user"] },
    Image { name: "debian", users: &["admin", "debian"] },
    Image { name: "fedora", users: &["fedora"] },
    Image { name: "flatcar", users: &["core"] },
    Image { name: "freebsd", users: &["freebsd", "ec2-user"] },
    Image { name: "opensuse", users: &["opensuse", "ec2-user", "root"] },
    Image { name: "oracle", users: &["opc", "ec2-user"] },
    Image { name: "raspberry", users: &["pi"] },
    Image { name: "redhat", users: &["ec2-user", "cloud-user"] },
    Image { name: "rocky", users: &["rocky", "cloud-user"] },
    Image { name: "suse", users: &["ec2-user", "root"] },
    Image { name: "ubuntu", users: &["ubuntu"] },
    Image { name: "vagrant", users: &["vagrant"] },
    Image { name: "windows", users: &["Administrator", "azureuser"] },
];

/// The image that a word means: `debian-12` is `debian`. The longest name that the word begins with or holds.
pub fn image(word: &str) -> Option<&'static Image> {
    let word = word.to_lowercase();
    let also = [
        ("rhel", "redhat"),
        ("red-hat", "redhat"),
        ("amzn", "amazon"),
        ("al2023", "amazon"),
        ("sles", "suse"),
        ("alma", "almalinux"),
    ];
    let word = also.iter().find(|(other, _)| word.starts_with(other)).map_or(word.as_str(), |(_, name)| name);
    let fitting = IMAGES.iter().filter(|image| word.contains(image.name));
    fitting.max_by_key(|image| image.name.len())
}
