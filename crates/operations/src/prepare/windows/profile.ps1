  function Set-Profile($interface) {
    Step 'The network that the way back goes through is private'
    $network = Get-NetConnectionProfile -InterfaceIndex $interface -ErrorAction SilentlyContinue
    if ($network -and $network.NetworkCategory -eq 'Public') {
      Change 'profile' "$interface"
      Set-NetConnectionProfile -InterfaceIndex $interface -NetworkCategory Private
    } else { Write-Host '   It was not a public one.' }
  }
