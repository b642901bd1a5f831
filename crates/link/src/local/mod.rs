//! Sockets of this computer: where tunnels listen, who calls there, and what they lead to.

mod listener;
mod relay;
mod stream;

pub use listener::{ListenError, Listener, bind_unix};
pub use relay::{Broken, Meter, Passing, relay};
pub use stream::LocalStream;
