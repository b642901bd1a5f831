  function Install-SshService {
    Step 'The SSH service is installed'
    if (Get-Service -Name sshd -ErrorAction SilentlyContinue) { Write-Host '   It was there.'; return }
    $capability = Get-WindowsCapability -Online -Name 'OpenSSH.Server*' | Select-Object -First 1
    if (-not $capability) { throw 'this Windows has no SSH service among its optional features' }
    Add-WindowsCapability -Online -Name $capability.Name | Out-Null
    Change 'capability' $capability.Name
  }
  function Add-Keys {
    Step "Keys let in as $Login"
    $user = Get-LocalUser -Name $Login -ErrorAction SilentlyContinue
    if (-not $user) { throw "there is no local user $Login; one with a password is made by: net user NAME * /add" }
    $administrators = @(Get-LocalGroupMember -SID 'S-1-5-32-544' | ForEach-Object { $_.SID.Value })
    if ($administrators -contains $user.SID.Value) {
      # The service reads this list for administrators, and only while nobody else may write to it.
      $list = "$env:ProgramData\ssh\administrators_authorized_keys"
      $owners = '*S-1-5-32-544:F', '*S-1-5-18:F'
    } else {
      $house = Get-CimInstance -ClassName Win32_UserProfile -Filter "SID='$($user.SID.Value)'"
      if (-not $house) { throw "$Login has never logged in here and has no home folder yet" }
      New-Item -ItemType Directory -Force -Path "$($house.LocalPath)\.ssh" | Out-Null
      $list = "$($house.LocalPath)\.ssh\authorized_keys"
      $owners = "*$($user.SID.Value):F", '*S-1-5-32-544:F', '*S-1-5-18:F'
    }
    $before = @(Get-Content -Path $list -ErrorAction SilentlyContinue)
    $new = @($Keys | Where-Object { $before -notcontains $_ })
    # What others put there stays as it is, byte for byte.
    if ($new.Count -gt 0 -and $before.Count -gt 0 -and [IO.File]::ReadAllText($list)[-1] -ne [char]10) { $new = @('') + $new }
    if ($new.Count -gt 0) { [IO.File]::AppendAllText($list, (($new -join [Environment]::NewLine) + [Environment]::NewLine)) }
    & icacls.exe $list /inheritance:r /grant:r $owners | Out-Null
    if ($LASTEXITCODE -ne 0) { throw "icacls could not close $list to others" }
    Change 'list' $list
    foreach ($key in $new) { if ($key) { Change "key $key" '1' } }
  }
