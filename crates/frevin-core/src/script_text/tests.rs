use super::*;

const BALANCED: Uuid = uuid::uuid!("381b4222-f694-41f0-9685-ff5bb260df2e");

fn told(text: &str, language: ScriptLanguage) -> String {
    let script = read(text, language, Some(BALANCED));
    let settings = script
        .settings
        .iter()
        .map(|setting| format!("{} {} = {}", setting.line, setting.address, setting.state));
    let problems =
        script.problems.iter().map(|problem| format!("{} ! {}", problem.line, problem.message));
    settings.chain(problems).collect::<Vec<_>>().join("\n")
}

#[test]
fn a_batch_file_is_read_line_by_line() {
    let text = r#"@echo off
:: Best tweaks
rem reg add HKLM\SOFTWARE\Not /v this /f
title Tweaks & color 0a
reg add "HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Multimedia\SystemProfile" /v SystemResponsiveness /t REG_DWORD /d 10 /f >nul 2>&1
reg add HKCU\Made\Up /ve /d "a ""b"" \"c\"" /f & REG.EXE ADD "HKCU\Made Up\\" /v Hex /t REG_DWORD /d 0xffffffff /f
reg add "HKCU\Made Up" ^
  /v "Long name" /t REG_MULTI_SZ /d one\0two /f
reg add "HKCU\Made Up" /v Bytes /t REG_BINARY /d 0aff /f
reg delete "HKCU\Made Up" /v Gone /f
reg delete "HKCU\Made Up" /f
reg add HKCU\Filled /f
reg add HKCU\Filled\Below /v x /t REG_SZ /d "" /f
reg add HKCU\Empty /f
sc config "SysMain" start= disabled
sc stop SysMain >> log.txt
net start "Windows Audio" || echo no
sc delete Something
powercfg /setacvalueindex scheme_current sub_processor PROCTHROTTLEMIN 100
powercfg -setactive 8c5e7fda-e8bf-4a96-9a85-a6e23a8c635c
powercfg -x -monitor-timeout-ac 10
powercfg -attributes SUB_PROCESSOR PERFBOOSTMODE -ATTRIB_HIDE
powercfg -h off
bcdedit /set disabledynamictick yes
bcdedit /set {current} tscsyncpolicy Enhanced
bcdedit /deletevalue useplatformclock
bcdedit /timeout 3
schtasks /Change /TN "\Microsoft\Windows\Made Up\Collect" /Disable
dism /online /Disable-Feature /FeatureName:WorkFolders-Client /NoRestart
del /q C:\Windows\Temp\*
if exist C:\x reg add HKCU\A /v b /t REG_SZ /d c /f
if %errorlevel%==0 (
  reg add HKCU\A /v c /t REG_SZ /d c /f
)
for %%i in (A B) do sc config %%i start= disabled
sc config %SERVICE% start= disabled
reg query HKCU\A | findstr b
powershell -Command "Set-Service -Name SysMain -StartupType Manual; Stop-Service WSearch"
powershell -File other.ps1
reg add HKCU\A /v big /t REG_DWORD /d 4294967296 /f
reg add HKCR\A /v b /t REG_SZ /d c /f
call other.bat"#;
    insta::assert_snapshot!(told(text, ScriptLanguage::Batch), @r#"
    5 registry:HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Multimedia\SystemProfile#SystemResponsiveness = 10 (0xa)
    6 registry:HKCU\Made\Up# = "a b "c""
    6 registry:HKCU\Made Up#Hex = 4294967295 (0xffffffff)
    7 registry:HKCU\Made Up#Long name = type 7: 6f 00 6e 00 65 00 00 00 74 00 77 00 … (18 bytes)
    9 registry:HKCU\Made Up#Bytes = type 3: 0a ff
    10 registry:HKCU\Made Up#Gone = absent
    13 registry:HKCU\Filled\Below#x = ""
    15 service:SysMain#start = disabled
    16 service:SysMain#running = stopped
    17 service:Windows Audio#running = running
    19 power:381b4222-f694-41f0-9685-ff5bb260df2e/54533251-82be-4824-96c1-47b60b740d00/893dee8e-2bef-41e0-89c6-b55d0929964c#mains = 100
    20 power:active-plan = high performance
    21 power:8c5e7fda-e8bf-4a96-9a85-a6e23a8c635c/7516b95f-f776-4464-8c53-06167f40cc99/3c0bc021-c8a8-4e07-a973-6b14cbcb2b7e#mains = 600
    22 power:54533251-82be-4824-96c1-47b60b740d00/be337238-0d82-4146-a960-4f3749d470c7#hidden = off
    24 boot:current#element-disabledynamictick = "yes"
    25 boot:current#element-tscsyncpolicy = "Enhanced"
    26 boot:current#element-useplatformclock = absent
    27 boot:bootmgr#element-timeout = "3"
    28 task:\Microsoft\Windows\Made Up\Collect#enabled = off
    29 feature:WorkFolders-Client#enabled = off
    38 service:SysMain#start = manual
    38 service:WSearch#running = stopped
    11 ! `reg delete HKCU\Made Up /f`: it deletes HKCU\Made Up with all that is in it; Frevin takes away values one by one, so that each comes back
    14 ! it makes the key HKCU\Empty and puts nothing into it
    18 ! `sc delete Something`: it takes a service away, and nothing could bring it back
    23 ! `powercfg -h off`: Windows sets it up with more than a value: the tweaks on hibernation do it
    30 ! `del /q C:\Windows\Temp\*`: Frevin does not know what this does
    31 ! `if exist C:\x reg add HKCU\A /v b /t REG_SZ /d c /f`: it is done only under a condition, or several times
    32 ! `if %errorlevel%==0`: it is done only under a condition, or several times
    33 ! `reg add HKCU\A /v c /t REG_SZ /d c /f`: it is done only under a condition, or several times
    35 ! `for %%i in`: it is done only under a condition, or several times
    35 ! `A B`: it is done only under a condition, or several times
    35 ! `do sc config %%i start= disabled`: it is done only under a condition, or several times
    36 ! `sc config %SERVICE% start= disabled`: what it holds is only known when the script runs
    37 ! `reg query HKCU\A`: what it does hangs on another command's output
    37 ! `findstr b`: what it does hangs on another command's output
    39 ! `powershell -File other.ps1`: it runs a script or an interpreter: Frevin runs none
    40 ! `reg add HKCU\A /v big /t REG_DWORD /d 4294967296 /f`: 4294967296 is no number that fits
    41 ! `reg add HKCR\A /v b /t REG_SZ /d c /f`: HKCR is a view of other keys; address the key itself, under HKLM\SOFTWARE\Classes
    42 ! `call other.bat`: Frevin does not know what this does
    "#);
}

#[test]
fn a_power_shell_script_is_read_line_by_line() {
    let text = r#"# Best tweaks
<# reg add HKCU\A /v no /f
#>
Write-Host "Tweaking"
Set-ItemProperty -Path "HKLM:\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Multimedia\SystemProfile" -Name "SystemResponsiveness" -Type DWord -Value 10
New-Item -Path 'HKCU:\Made Up' -Force | Out-Null
New-ItemProperty 'HKCU:\Made Up' 'It''s' 5 -PropertyType QWord -Force | Out-Null
Set-ItemProperty -LiteralPath 'Registry::HKEY_CURRENT_USER\Made Up' -Name Text -Value '$literal'
Remove-ItemProperty -Path 'HKCU:\Made Up' `
  -Name Gone -ErrorAction SilentlyContinue
Remove-Item 'HKCU:\Made Up' -Recurse
Set-Service -Name SysMain -StartupType Disabled -Status Stopped
Get-Service DiagTrack | Stop-Service
Disable-ScheduledTask -TaskPath '\Microsoft\Windows\Made Up\' -TaskName Collect | Out-Null
Disable-ScheduledTask Collect
Disable-WindowsOptionalFeature -Online -FeatureName WorkFolders-Client -NoRestart
$names = @('A', 'B')
foreach ($name in $names) {
  Set-Service $name -StartupType Disabled
}
if (Test-Path HKCU:\A) { Remove-ItemProperty HKCU:\A b }
Set-ItemProperty HKCU:\A b (Get-Date)
reg add HKCU\A /v c /t REG_DWORD /d 1 /f
sc config SysMain start= disabled
sc.exe config SysMain start= demand
iwr https://example.invalid/more.ps1 | iex
Get-AppxPackage *weather* | Remove-AppxPackage"#;
    insta::assert_snapshot!(told(text, ScriptLanguage::PowerShell), @r#"
    5 registry:HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Multimedia\SystemProfile#SystemResponsiveness = 10 (0xa)
    7 registry:HKCU\Made Up#It's = 5
    8 registry:HKCU\Made Up#Text = "$literal"
    9 registry:HKCU\Made Up#Gone = absent
    12 service:SysMain#start = disabled
    12 service:SysMain#running = stopped
    14 task:\Microsoft\Windows\Made Up\Collect#enabled = off
    16 feature:WorkFolders-Client#enabled = off
    23 registry:HKCU\A#c = 1
    25 service:SysMain#start = manual
    11 ! `Remove-Item HKCU:\Made Up -Recurse`: it deletes HKCU\Made Up with all that is in it; Frevin takes away values one by one, so that each comes back
    13 ! `Get-Service DiagTrack`: what it does hangs on another command's output
    13 ! `Stop-Service`: what it does hangs on another command's output
    15 ! `Disable-ScheduledTask Collect`: it names a task without its folder
    17 ! `$names = @('A', 'B')`: what it holds is only known when the script runs
    18 ! `foreach ($name in $names)`: it is done only under a condition, or several times
    19 ! `Set-Service $name -StartupType Disabled`: it is done only under a condition, or several times
    21 ! `if (Test-Path HKCU:\A)`: it is done only under a condition, or several times
    21 ! `Remove-ItemProperty HKCU:\A b`: it is done only under a condition, or several times
    22 ! `Set-ItemProperty HKCU:\A b (Get-Date)`: what it holds is only known when the script runs
    24 ! `sc config SysMain start= disabled`: Frevin does not know what this does
    26 ! `iwr https://example.invalid/more.ps1`: what it does hangs on another command's output
    26 ! `iex`: what it does hangs on another command's output
    27 ! `Get-AppxPackage *weather*`: what it does hangs on another command's output
    27 ! `Remove-AppxPackage`: what it does hangs on another command's output
    "#);
}

#[test]
fn the_current_plan_is_told_where_it_is_not_known() {
    let script = read("powercfg /x monitor-timeout-dc 1", ScriptLanguage::Batch, None);
    assert!(script.settings.is_empty());
    assert!(script.problems[0].message.contains("which plan is in force is not known"));
}

proptest::proptest! {
    #[test]
    fn no_text_makes_the_reader_panic(
        text in r#"(reg|sc|powercfg|if|Set-Service|bcdedit)?[ -~\n"'`^%$(){}|&>#]{0,80}"#,
    ) {
        for language in [ScriptLanguage::Batch, ScriptLanguage::PowerShell] {
            let lines = text.lines().count().max(1) + 1;
            let script = read(&text, language, Some(BALANCED));
            for problem in script.problems {
                assert!((1..=lines).contains(&problem.line), "{} {}", problem.line, problem.message);
            }
        }
    }
}
