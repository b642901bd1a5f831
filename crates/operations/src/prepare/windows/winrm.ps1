  function Get-HttpsListener {
    Get-ChildItem -Path WSMan:\localhost\Listener | Where-Object { $_.Keys -contains 'Transport=HTTPS' }
  }
  function Set-Listener($certificate) {
    Step 'WinRM listens on port 5986, over TLS'
    $thumbprint = $certificate.Thumbprint
    $listener = @(Get-HttpsListener)
    $has = foreach ($one in $listener) { (Get-Item -Path "WSMan:\localhost\Listener\$($one.Name)\CertificateThumbprint").Value -replace ' ' }
    if ($has -contains $thumbprint) { Write-Host '   It did.' } else {
      if ($listener.Count -gt 0) {
        # One that this made before is none to go back to.
        if (-not (Changed 'listener')) { Change 'listener-before' "$(@($has)[0])" }
        $listener | ForEach-Object { Remove-Item -Path "WSMan:\localhost\Listener\$($_.Name)" -Recurse -Force }
      }
      New-Item -Path WSMan:\localhost\Listener -Transport HTTPS -Address * -Port 5986 -HostName ($certificate.Subject -replace '^CN=') -CertificateThumbPrint $thumbprint -Force | Out-Null
      Change 'listener' $thumbprint
    }
    Step 'Certificates of users are asked for within the handshake'
    foreach ($place in '0.0.0.0:5986', '[::]:5986') {
      & netsh.exe http show sslcert "ipport=$place" | Out-Null
      if ($LASTEXITCODE -ne 0) { continue }
      & netsh.exe http delete sslcert "ipport=$place" | Out-Null
      & netsh.exe http add sslcert "ipport=$place" "certhash=$thumbprint" 'appid={afebb9ad-9b97-4a91-9ab5-daf4d59122f6}' certstorename=MY clientcertnegotiation=enable | Out-Null
      if ($LASTEXITCODE -ne 0) { throw "netsh did not take the certificate for $place" }
    }
    $setting = Get-Item -Path WSMan:\localhost\Service\Auth\Certificate
    if ($setting.Value -eq 'true') { Write-Host '   They were taken.' } else {
      Change 'certificate-login' $setting.Value
      Set-Item -Path WSMan:\localhost\Service\Auth\Certificate -Value $true
    }
    $plain = @(Get-NetFirewallPortFilter -Protocol TCP | Where-Object { $_.LocalPort -contains '5985' } | Get-NetFirewallRule | Where-Object { $_.Enabled -eq 'True' -and $_.Action -eq 'Allow' })
    if ($plain.Count -gt 0) { Write-Host "   Plain HTTP (port 5985) is let in by: $($plain.DisplayName -join ', '). It is not needed, and was left as it is." }
  }
