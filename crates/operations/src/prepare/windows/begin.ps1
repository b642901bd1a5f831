  $ErrorActionPreference = 'Stop'
  Set-StrictMode -Version 2
  # Only administrators can write here: what was changed is noted, so that it can be taken back, and only that.
  $State = 'HKLM:\SOFTWARE\Lantern\Prepare'
  $Now = @{ Step = 'looking at the system' }
  function Step($text) { $Now.Step = $text; Write-Host "== $text" }
  function Changed($name) {
    $all = Get-ItemProperty -Path $State -ErrorAction SilentlyContinue
    if ($all -and ($all.PSObject.Properties.Name -contains $name)) { $all.$name }
  }
  function Assert-Administrator {
    $me = New-Object Security.Principal.WindowsPrincipal ([Security.Principal.WindowsIdentity]::GetCurrent())
    if (-not $me.IsInRole([Security.Principal.WindowsBuiltInRole]::Administrator)) {
      throw 'this must be run as administrator: open Windows PowerShell with "Run as administrator", then paste it again'
    }
    if ([Environment]::OSVersion.Version.Major -lt 10) { throw 'this is for Windows 10, Windows Server 2016 and later' }
  }
