  function Get-MadeCertificate {
    Step "A certificate for $Names"
    $known = Changed 'certificate'
    if ($known -and (Test-Path "Cert:\LocalMachine\My\$known")) {
      $certificate = Get-Item "Cert:\LocalMachine\My\$known"
      $same = $certificate.Subject -eq "CN=$($Names[0])" -and (Changed 'names') -eq "$Names"
      if ($same -and $certificate.NotAfter -gt (Get-Date).AddDays(30)) { Write-Host '   It was there.'; return $certificate }
    }
    $alternatives = foreach ($name in $Names) {
      $address = $null
      if ([Net.IPAddress]::TryParse($name, [ref]$address)) { "IPAddress=$name" } else { "DNS=$name" }
    }
    $extensions = @("2.5.29.17={text}$($alternatives -join '&')", '2.5.29.37={text}1.3.6.1.5.5.7.3.1')
    $certificate = New-SelfSignedCertificate -Subject "CN=$($Names[0])" -TextExtension $extensions -CertStoreLocation Cert:\LocalMachine\My -KeyAlgorithm RSA -KeyLength 3072 -HashAlgorithm SHA256 -KeyExportPolicy NonExportable -NotAfter (Get-Date).AddYears(2)
    Change "brought $($certificate.Thumbprint)" '1'
    Note 'certificate' $certificate.Thumbprint
    Note 'names' "$Names"
    $certificate
  }
