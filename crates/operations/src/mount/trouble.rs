//! What went wrong, as the kernel is told: by a number.

use fuser::Errno;
use lantern_link::FilesError;
use lantern_ssh::sftp::StatusCode;

/// Why something was not done.
#[derive(Debug, Clone)]
pub enum Trouble {
    /// The machine.
    Files(FilesError),
    /// A rule of systems of this kind.
    Rule(Errno),
}

impl From<FilesError> for Trouble {
    fn from(error: FilesError) -> Self {
        Self::Files(error)
    }
}

impl Trouble {
    /// The number for programs.
    pub fn number(&self) -> Errno {
        let error = match self {
            Self::Rule(number) => return *number,
            Self::Files(error) => error,
        };
        match error {
            FilesError::Refused { refusal, .. } => match refusal.code {
                StatusCode::NoSuchFile => Errno::ENOENT,
                StatusCode::PermissionDenied => Errno::EACCES,
                StatusCode::Unsupported => Errno::ENOTSUP,
                // Version 3 has no numbers for these, and servers say them in words.
                _ => of_words(&refusal.message.to_lowercase()),
            },
            FilesError::CannotDo { .. } => Errno::ENOTSUP,
            FilesError::PathTooLong { .. } => Errno::ENAMETOOLONG,
            _ => Errno::EIO,
        }
    }

    /// Whether the machine refused without saying why.
    pub(super) fn is_vague(&self) -> bool {
        self.number() == Errno::EIO
            && matches!(self, Self::Files(FilesError::Refused { refusal, .. }) if refusal.code == StatusCode::Failure)
    }
}

fn of_words(words: &str) -> Errno {
    let says = |part: &str| words.contains(part);
    match () {
        () if says("no space") || says("disk full") || says("not enough space") => Errno::ENOSPC,
        () if says("quota") => Errno::EDQUOT,
        () if says("read-only") => Errno::EROFS,
        () if says("not empty") => Errno::ENOTEMPTY,
        () if says("exists") => Errno::EEXIST,
        () if says("too long") => Errno::ENAMETOOLONG,
        () if says("not a directory") || says("not a folder") => Errno::ENOTDIR,
        () if says("is a directory") || says("is a folder") => Errno::EISDIR,
        () => Errno::EIO,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lantern_ssh::sftp::Refusal;

    #[test]
    fn refusals_have_the_numbers_that_programs_know() {
        let refused = |code, message: &str| {
            let refusal = Refusal { code, message: message.to_owned() };
            let (machine, path) = ("lamp-01".to_owned(), b"/srv".to_vec());
            Trouble::from(FilesError::Refused { machine, what: "write", path, refusal }).number()
        };
        assert_eq!(refused(StatusCode::NoSuchFile, ""), Errno::ENOENT);
        assert_eq!(refused(StatusCode::PermissionDenied, ""), Errno::EACCES);
        assert_eq!(refused(StatusCode::Failure, "No space left on device"), Errno::ENOSPC);
        assert_eq!(refused(StatusCode::Failure, "Failure"), Errno::EIO);
        assert_eq!(refused(StatusCode::Unsupported, ""), Errno::ENOTSUP);
    }
}
