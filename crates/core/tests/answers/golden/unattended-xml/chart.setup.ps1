$ErrorActionPreference = 'Stop'
Invoke-WebRequest -UseBasicParsing 'http://192.0.2.2/report/TOKEN/started' | Out-Null
$failed = 'http://192.0.2.2/report/TOKEN/failed'
trap { Invoke-WebRequest -UseBasicParsing ($failed + '?text=' + [uri]::EscapeDataString("$_")) | Out-Null; break }
& w32tm /config /manualpeerlist:'time.gannet.example' /syncfromflags:manual /update
# Last step power
& ([scriptblock]::Create('powercfg /hibernate off
'))
$scripts = "$env:SystemRoot\Setup\Scripts"
New-Item -ItemType Directory -Force $scripts | Out-Null
Set-Content -Encoding UTF8 "$scripts\first-boot.ps1" '$ErrorActionPreference = ''Continue''
# greet
& ([scriptblock]::Create(''Write-Output ''''it''''''''s <ready>''''
''))
Invoke-WebRequest -UseBasicParsing ''http://192.0.2.2/report/TOKEN/done'' | Out-Null
$os = Get-CimInstance Win32_OperatingSystem
$address = (Get-NetIPConfiguration | Where-Object IPv4DefaultGateway | Select-Object -First 1).IPv4Address.IPAddress
$said = @{ host_name = $env:COMPUTERNAME; address = $address; os = $os.Caption; kernel = $os.Version }
$query = ($said.GetEnumerator() | ForEach-Object { $_.Key + ''='' + [uri]::EscapeDataString("$($_.Value)") }) -join ''&''
Invoke-WebRequest -UseBasicParsing (''http://192.0.2.2/report/TOKEN/booted'' + ''?'' + $query) | Out-Null
'
Set-Content -Encoding ASCII "$scripts\SetupComplete.cmd" 'powershell.exe -NoProfile -ExecutionPolicy Bypass -File "%SystemRoot%\Setup\Scripts\first-boot.ps1"'
