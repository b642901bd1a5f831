  function Undo-All {
    if (-not (Test-Path $State)) { Write-Host 'Nothing was done here by "machine prepare", or all of it was taken back.'; return }
    $all = (Get-ItemProperty -Path $State).PSObject.Properties | Where-Object { $_.Name -notlike 'PS*' }
    Step 'The firewall is as it was'
    $rule = Changed 'rule'
    if ($rule) { Remove-NetFirewallRule -Name $rule -ErrorAction SilentlyContinue }
    foreach ($one in $all) { if ($one.Name -like 'wide-*') { Enable-NetFirewallRule -Name $one.Name.Substring(5) } }
    $list = Changed 'list'
    if ($list -and (Test-Path $list)) {
      Step "Keys are out of $list again"
      $put = foreach ($one in $all) { if ($one.Name -like 'key *') { $one.Name.Substring(4) } }
      $kept = @([IO.File]::ReadAllLines($list) | Where-Object { @($put) -notcontains $_ })
      [IO.File]::WriteAllLines($list, [string[]]$kept)
    }
    if (Changed 'listener') {
      Step 'The listener is as it was'
      Get-ChildItem -Path WSMan:\localhost\Listener | Where-Object { $_.Keys -contains 'Transport=HTTPS' } | ForEach-Object { Remove-Item -Path "WSMan:\localhost\Listener\$($_.Name)" -Recurse -Force }
      $before = Changed 'listener-before'
      if ($before -and (Test-Path "Cert:\LocalMachine\My\$before")) {
        $hostName = (Get-Item "Cert:\LocalMachine\My\$before").Subject -replace '^CN=', '' -replace ',.*'
        New-Item -Path WSMan:\localhost\Listener -Transport HTTPS -Address * -Port 5986 -HostName $hostName -CertificateThumbPrint $before -Force | Out-Null
      }
    }
    $login = Changed 'certificate-login'
    if ($login) { Set-Item -Path WSMan:\localhost\Service\Auth\Certificate -Value $login }
    foreach ($one in $all) {
      if ($one.Name -notlike 'brought *') { continue }
      $path = "Cert:\LocalMachine\My\$($one.Name.Substring(8))"
      if (Test-Path $path) { Remove-Item -Path $path -DeleteKey }
    }
    $interface = Changed 'profile'
    if ($interface) {
      Step 'The network is a public one again'
      Set-NetConnectionProfile -InterfaceIndex $interface -NetworkCategory Public
    }
    Step 'Services are as they were'
    foreach ($one in $all) { if ($one.Name -like 'started-*') { Stop-Service -Name $one.Name.Substring(8) -Force } }
    foreach ($one in $all) {
      if ($one.Name -like 'start-mode-*') { Set-Service -Name $one.Name.Substring(11) -StartupType ($one.Value -replace '^Auto$', 'Automatic') }
    }
    $capability = Changed 'capability'
    if ($capability) { Write-Host "   The feature $capability stays (Remove-WindowsCapability -Online -Name $capability takes it away)." }
    Remove-Item -Path $State -Recurse
    Write-Host ''
    Write-Host 'What was done is taken back.'
  }
