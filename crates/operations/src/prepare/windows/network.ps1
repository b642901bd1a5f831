  function Get-WayBack {
    $first = ($From[0] -split '/')[0]
    $way = @(Find-NetRoute -RemoteIPAddress $first)
    @{ Address = $way[0].IPAddress; Interface = $way[0].InterfaceIndex }
  }
  function Set-Firewall($rule, $port) {
    Step "The firewall lets port $port in from $From, and not from everywhere"
    if (Get-NetFirewallRule -Name $rule -ErrorAction SilentlyContinue) {
      Set-NetFirewallRule -Name $rule -RemoteAddress $From -LocalPort $port -Enabled True
    } else {
      Change 'rule' $rule
      New-NetFirewallRule -Name $rule -DisplayName "lantern, port $port" -Direction Inbound -Action Allow -Protocol TCP -LocalPort $port -RemoteAddress $From -Profile Any | Out-Null
    }
    # A rule for everybody would leave ours without meaning.
    $filters = Get-NetFirewallPortFilter -Protocol TCP | Where-Object { $_.LocalPort -contains "$port" }
    foreach ($other in @($filters | Get-NetFirewallRule)) {
      if ($other.Name -eq $rule -or $other.Enabled -ne 'True' -or $other.Direction -ne 'Inbound' -or $other.Action -ne 'Allow') { continue }
      $wide = ($other | Get-NetFirewallAddressFilter).RemoteAddress -contains 'Any'
      if ($wide) {
        Write-Host "   The rule $($other.DisplayName), which lets everybody in, is switched off."
        Change "wide-$($other.Name)" '1'
        Disable-NetFirewallRule -Name $other.Name
      } else { Write-Host "   The rule $($other.DisplayName) lets others in, and was left as it is." }
    }
  }
