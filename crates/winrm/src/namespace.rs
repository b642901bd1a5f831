//! The URIs of WS-Management (DSP0226), WS-Addressing and the shells of MS-WSMV, as they stand on the wire.

/// SOAP 1.2 envelopes.
pub const SOAP: &str = "http://www.w3.org/2003/05/soap-envelope";
/// WS-Addressing, August 2004.
pub const ADDRESSING: &str = "http://schemas.xmlsoap.org/ws/2004/08/addressing";
/// Answers come back on the connection.
pub const ANONYMOUS: &str = "http://schemas.xmlsoap.org/ws/2004/08/addressing/role/anonymous";
/// WS-Management.
pub const WSMAN: &str = "http://schemas.dmtf.org/wbem/wsman/1/wsman.xsd";
/// The extensions of MS-WSMV.
pub const WSMV: &str = "http://schemas.microsoft.com/wbem/wsman/1/wsman.xsd";
/// Details of faults.
pub const WSMAN_FAULT: &str = "http://schemas.microsoft.com/wbem/wsman/1/wsmanfault";
/// Shells.
pub const SHELL: &str = "http://schemas.microsoft.com/wbem/wsman/1/windows/shell";
/// What a service says of itself.
pub const IDENTITY: &str = "http://schemas.dmtf.org/wbem/wsman/identity/1/wsmanidentity.xsd";
/// XML Schema instances, for `nil`.
pub const SCHEMA_INSTANCE: &str = "http://www.w3.org/2001/XMLSchema-instance";
/// The prefix `xml`.
pub const XML: &str = "http://www.w3.org/XML/1998/namespace";

/// The resource of the command shell.
pub const COMMAND_SHELL: &str = "http://schemas.microsoft.com/wbem/wsman/1/windows/shell/cmd";
/// Resources of sessions begin with this; behind it stands the endpoint (MS-PSRP 3.1.5.3.1).
pub const SESSIONS: &str = "http://schemas.microsoft.com/powershell/";
/// The endpoint that every machine has.
pub const USUAL_ENDPOINT: &str = "Microsoft.PowerShell";
/// The fragments that make a session, and those that join one.
pub const CREATION: &str = "http://schemas.microsoft.com/powershell";
/// Has a pipeline stop. The standard writes it so.
pub const REMOTING_STOP: &str = "powershell/signal/crtl_c";

/// WS-Transfer.
pub const TRANSFER: &str = "http://schemas.xmlsoap.org/ws/2004/09/transfer";
/// The action of a fault of WS-Management.
pub const FAULT_ACTION: &str = "http://schemas.dmtf.org/wbem/wsman/1/wsman/fault";

/// States of a command begin with this.
pub const COMMAND_STATE: &str = "http://schemas.microsoft.com/wbem/wsman/1/windows/shell/CommandState/";
/// Signals begin with this.
pub const SIGNAL: &str = "http://schemas.microsoft.com/wbem/wsman/1/windows/shell/signal/";

/// The profile of a login by certificates of both sides, as a service's header has it.
pub const MUTUAL_TLS: &str = "http://schemas.dmtf.org/wbem/wsman/1/wsman/secprofile/https/mutual";
