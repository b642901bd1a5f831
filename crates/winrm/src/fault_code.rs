//! Numbers that machines give as the reason of a refusal: those of WS-Management (`WsmanFault` codes as the public headers of the platform list them) and
//! those of the system below, which arrive as they are or wrapped into an HRESULT. In our own words.

/// What a fault is about, as far as something follows from it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum FaultKind {
    /// Nothing had happened by the end of the time: to be asked again.
    TimedOut,
    /// There is no such shell, any more.
    ShellGone,
    /// The user may not do this.
    AccessDenied,
    /// A quota of the service; by name.
    Quota(&'static str),
    /// The message was larger than the service takes.
    TooLarge,
    /// The command has ended already.
    CommandEnded,
    /// The program, or a folder, was not found.
    NotFound,
    /// There is no such endpoint.
    NoSuchResource,
    /// The service takes no shells.
    ShellsForbidden,
    /// The code page is not there.
    CodePage,
    /// An option is not known there.
    Option,
    /// The shell is somebody else's, or is not connected to us.
    Disconnected,
    /// The user and password were not taken, for the shell itself.
    Login,
    /// The service is too busy, or is ending.
    Busy,
    /// Anything else.
    Other,
}

/// What a number means: its kind, and our words for it.
pub(crate) fn explain(code: u32) -> (FaultKind, Option<&'static str>) {
    use FaultKind as Kind;
    let (kind, words) = match code {
        2_150_858_752 | 2_150_858_754 | 2_150_858_811 => {
            (Kind::NoSuchResource, "there is no endpoint of that name")
        }
        2_150_858_753 | 2_150_858_771 => (Kind::Other, "the endpoint does not know this action"),
        2_150_858_755 => (Kind::Other, "the part of the service that does this failed"),
        2_150_858_772 => (Kind::Busy, "the endpoint is not available now"),
        2_150_858_790 | 2_150_858_805 | 2_150_858_823..=2_150_858_825 | 2_150_859_025 => {
            (Kind::TooLarge, "the message is larger than its MaxEnvelopeSizekb allows")
        }
        2_150_858_793 => (Kind::TimedOut, "there was nothing to answer within the time"),
        2_150_858_806 => (Kind::Login, "it does not accept who we say we are"),
        2_150_858_809 | 2_150_858_833..=2_150_858_835 | 2_150_859_140 => {
            (Kind::Option, "it does not know an option that was sent")
        }
        2_150_858_815 => (Kind::Quota("a quota"), "a quota of the service is used up"),
        2_150_858_817 | 2_150_858_819 => (Kind::Other, "it does not find the message well formed"),
        2_150_858_843 | 2_150_858_845 | 2_150_859_082 | 2_150_859_084 => {
            (Kind::ShellGone, "the shell is not there any more")
        }
        2_150_858_852 => (Kind::Login, "it does not take this kind of login"),
        2_150_859_012..=2_150_859_014 => (Kind::AccessDenied, "the user has no access"),
        2_150_859_072 => (Kind::CodePage, "it does not have the code page"),
        2_150_859_085 | 2_150_859_087 | 2_150_859_212 => {
            (Kind::CommandEnded, "the command has ended already")
        }
        2_150_859_099 => (Kind::NoSuchResource, "there is no shell of that name"),
        2_150_859_147 => (Kind::CommandEnded, "the command takes no such input"),
        2_150_859_173 | 2_150_859_236 => (
            Kind::Quota("MaxShellsPerUser"),
            "the user has as many shells open as one may have (MaxShellsPerUser)",
        ),
        2_150_859_174 | 2_150_859_240 => (
            Kind::Quota("MaxConcurrentOperationsPerUser"),
            "the user has as many requests under way as one may have (MaxConcurrentOperationsPerUser)",
        ),
        2_150_859_175 => {
            (Kind::Quota("the user's load"), "the user's requests come faster than the service allows")
        }
        2_150_859_176 => {
            (Kind::Quota("the system's load"), "the machine is at the limit of what its service may use")
        }
        2_150_859_179 | 2_150_859_237 => (
            Kind::Quota("MaxConcurrentUsers"),
            "as many users have shells there as may have one (MaxConcurrentUsers)",
        ),
        2_150_859_238 | 2_150_859_239 => {
            (Kind::Quota("the endpoint's quota"), "a quota of the endpoint is used up")
        }
        2_150_859_241 => (
            Kind::Quota("MaxProcessesPerShell"),
            "the shell has as many processes as one may have (MaxProcessesPerShell)",
        ),
        2_150_859_177 => (Kind::Disconnected, "the shell belongs to another user"),
        2_150_859_180 => {
            (Kind::ShellsForbidden, "its service takes no shells (AllowRemoteShellAccess is off)")
        }
        2_150_859_204..=2_150_859_206 | 2_150_859_213..=2_150_859_216 => {
            (Kind::Disconnected, "the shell is not connected to us")
        }
        2_150_859_229 | 2_150_859_235 => (Kind::AccessDenied, "its service takes no remote requests"),
        2_150_859_203 | 2_150_859_231 | 2_150_859_261 => {
            (Kind::Login, "the account that the endpoint runs as cannot log in there")
        }
        _ => return system(code),
    };
    (kind, Some(words))
}

/// Codes of the system, bare or as an HRESULT of facility 7.
fn system(code: u32) -> (FaultKind, Option<&'static str>) {
    use FaultKind as Kind;
    let bare = if code >> 16 == 0x8007 { code & 0xffff } else { code };
    let (kind, words) = match bare {
        2 => (Kind::NotFound, "the program was not found"),
        3 => (Kind::NotFound, "the folder was not found"),
        5 => (Kind::AccessDenied, "the user may not do this"),
        8 | 14 => (
            Kind::Quota("memory"),
            "there is not enough memory: of the machine, or of what one shell may use (MaxMemoryPerShellMB)",
        ),
        109 | 232 => (Kind::CommandEnded, "the program reads no more"),
        193 => (Kind::NotFound, "the file is not a program that runs there"),
        206 => (Kind::TooLarge, "the command line is too long"),
        267 => (Kind::NotFound, "the name of the folder is not one"),
        740 => (Kind::AccessDenied, "the program wants to be run as administrator"),
        995 => (Kind::CommandEnded, "it was ended"),
        1115 | 1117 => (Kind::Busy, "the machine is shutting down, or its disk fails"),
        1314 => (Kind::AccessDenied, "the user lacks a right that this needs"),
        1326 => (Kind::Login, "the user or the password is wrong"),
        1327 | 1328 | 1331 | 1385 => (
            Kind::Login,
            "the account may not log in there: it is restricted, disabled or outside of its hours",
        ),
        1330 | 1907 => (Kind::Login, "the password has expired"),
        1359 => (Kind::Other, "the service met an error of its own"),
        1460 => (Kind::TimedOut, "there was nothing to answer within the time"),
        1816 => (
            Kind::Quota("MaxMemoryPerShellMB"),
            "the shell uses as much memory as one may use (MaxMemoryPerShellMB)",
        ),
        1909 => (Kind::Login, "the account is locked"),
        _ => return (Kind::Other, None),
    };
    (kind, Some(words))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_come_bare_and_wrapped() {
        assert_eq!(explain(5).0, FaultKind::AccessDenied);
        assert_eq!(explain(0x8007_0005).0, FaultKind::AccessDenied);
        assert_eq!(explain(2_150_858_793).0, FaultKind::TimedOut);
        assert_eq!(explain(0x8033_81a5).0, FaultKind::Quota("MaxShellsPerUser"));
        assert_eq!(explain(0xdead_beef), (FaultKind::Other, None));
    }
}
