  function Get-BroughtCertificate {
    Step 'The certificate that was made for this machine'
    $store = New-Object Security.Cryptography.X509Certificates.X509Store ('My', 'LocalMachine')
    $store.Open('ReadWrite')
    $there = @($store.Certificates | Where-Object { $_.Thumbprint -eq $Thumbprint -and $_.HasPrivateKey })
    if ($there.Count -gt 0) { Write-Host '   It was there.'; $store.Close(); return $there[0] }
    $passphrase = Read-Host -AsSecureString -Prompt '   The passphrase that it was exported with'
    $certificate = New-Object Security.Cryptography.X509Certificates.X509Certificate2 ([Convert]::FromBase64String($Bundle), $passphrase, 'MachineKeySet,PersistKeySet')
    if ($certificate.Thumbprint -ne $Thumbprint) { throw 'the bundle holds another certificate' }
    $store.Add($certificate)
    $store.Close()
    Change "brought $($certificate.Thumbprint)" '1'
    Note 'certificate' $certificate.Thumbprint
    $certificate
  }
