  function Start-AtBoot($name) {
    Step "The service $name runs, and starts with the machine"
    $service = Get-CimInstance -ClassName Win32_Service -Filter "Name='$name'"
    if ($service.StartMode -eq 'Auto') { Write-Host '   It was started with the machine.' } else {
      Change "start-mode-$name" $service.StartMode
      Set-Service -Name $name -StartupType Automatic
    }
    if ($service.State -eq 'Running') { Write-Host '   It was running.' } else {
      Change "started-$name" '1'
      Start-Service -Name $name
    }
  }
