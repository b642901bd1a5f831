  function Note($name, $value) {
    Change $name $value
    Set-ItemProperty -Path $State -Name $name -Value $value
  }
