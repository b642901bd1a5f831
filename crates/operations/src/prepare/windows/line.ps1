  function Get-Hash([byte[]]$bytes) {
    $sha256 = [Security.Cryptography.SHA256]::Create()
    -join ($sha256.ComputeHash($bytes) | ForEach-Object { $_.ToString('x2') })
  }
  function Write-Line($address, $port, $presented) {
    Step 'What this machine presents'
    Write-Host "   $presented"
    $day = (Get-Date).ToUniversalTime().ToString('yyyy-MM-dd')
    $line = "lantern-line-1;name=$LineName;address=$address;port=$port;user=$LineUser;$presented;day=$day"
    $text = [Text.Encoding]::ASCII
    $inner = Get-Hash ($text.GetBytes($Secret + $line))
    $code = (Get-Hash ($text.GetBytes($Secret + $inner))).Substring(0, 16) -replace '(....)(?=.)', '$1-'
    Write-Host ''
    Write-Host "$Name is prepared. One line to carry back, whole, to the computer where lantern is:"
    Write-Host ''
    Write-Host "$line;check=$code"
    Write-Host ''
    Write-Host "There: lantern trust accept $Name --paste -     (or, when it is not in the book: lantern machine add $Name --paste -)"
    Write-Host "To take back what was done here: $Back"
  }
