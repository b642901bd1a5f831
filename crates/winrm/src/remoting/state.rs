//! How a pool of runspaces and a pipeline are (MS-PSRP 2.2.3.4, 2.2.3.5).

/// How a pool is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PoolState {
    /// It takes pipelines.
    Opened,
    /// It was closed.
    Closed,
    /// It broke.
    Broken,
    /// It is on its way from one to another.
    Other(i64),
}

impl PoolState {
    /// Of its number.
    pub fn of(number: i64) -> Self {
        match number {
            2 => Self::Opened,
            3 => Self::Closed,
            5 => Self::Broken,
            other => Self::Other(other),
        }
    }
}

/// How a pipeline is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PipelineState {
    /// It was stopped.
    Stopped,
    /// It has ended, whatever errors it told.
    Completed,
    /// An error ended it.
    Failed,
    /// It is on its way.
    Other(i64),
}

impl PipelineState {
    /// Of its number.
    pub fn of(number: i64) -> Self {
        match number {
            3 => Self::Stopped,
            4 => Self::Completed,
            5 => Self::Failed,
            other => Self::Other(other),
        }
    }
}
