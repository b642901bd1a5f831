  function Change($name, $value) {
    if (-not (Test-Path $State)) { New-Item -Path $State -Force | Out-Null }
    if ($null -eq (Changed $name)) { New-ItemProperty -Path $State -Name $name -Value $value | Out-Null }
  }
