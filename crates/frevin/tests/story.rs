//! The whole job, from a new PC to everything rolled back, as its user sees it.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;

#[test]
fn a_profile_is_previewed_applied_and_rolled_back_to_the_very_bytes() {
    let place = Place::with_evening();
    let at_first = place.pc_files();
    assert_snapshot!(place.run(&["preview", "evening"]).ok().out, @"
    What evening@1 would change on this PC

    power/active-plan  Choose the power plan  sound, trade-off
      setting                               now        after             takes effect
      power plan in force                   balanced   high performance  now

    recording/background  Switch background recording off  sound, trade-off
      setting                               now        after             takes effect
      GameDVR › HistoricalCaptureEnabled    1          0                 after sign-out
      GameDVR › AppCaptureEnabled           1          0                 after sign-out
      GameDVR › AllowGameDVR                absent     0                 after sign-out
      1 registry key made for it

    services/prefetch  Stop the prefetching service  contested, trade-off
      setting                               now        after             takes effect
      service SysMain, start                automatic  disabled          now
      service SysMain                       running    stopped           now

    looks/menu-delay  Open submenus sooner  sound, safe
      setting                               now        after             takes effect
      menu delay                            400 ms     50 ms             now

    memory/large-file-cache  Let the file cache grow large  contested, trade-off
      setting                               now        after             takes effect
      Memory Management › LargeSystemCache  0          1                 after restart

    9 settings would be written. The last of it acts after a restart.
    ");
    assert_eq!(place.pc_files(), at_first, "a preview changes nothing");

    assert_snapshot!(place.run(&["apply", "evening", "--yes"]).ok().out, @"
    Done. Change 1 (evening@1) is applied: 9 settings written and read back.
    Some of it waits for a restart.
    This was the first change of this PC: restore point 1 was made before it.
      after the restart    frevin drift
      take it back         frevin rollback 1
      undo without Frevin  [HERE]/home/undo/[ID]/change-1.reg
                           [HERE]/home/undo/[ID]/change-1.txt
    ");
    assert_ne!(place.pc_files(), at_first);
    assert_snapshot!(place.run(&["inspect"]).ok().out, @"
    Test desktop (rehearsal PC)
      form        desktop, on mains
      system      Windows 11 Pro, build 26100
      processor   Halden Six 12-thread, 6 cores, 12 threads, holds 4050 MHz
      memory      16 GiB, 2666 MT/s of 3600 MT/s rated
      graphics    Corvane V7, discrete, 8.0 GiB, driver 7.41.2 of 2026-08-18
      display     Lumet 27Q, 2560x1440 at 60 Hz of 165 Hz offered
      display     Lumet 22S, 1920x1080 at 60 Hz of 75 Hz offered
      drive       C: solid-state, system, 118 of 476 GiB free
      drive       D: spinning, 640 of 1863 GiB free
      network     Ethernet, cable, 1000 Mbit/s
      games       Gorsehollow Riders
      runs        170 processes, 91 services, 5 things start with it
      owner uses  printer, file search, Bluetooth

      tweaks in force  5
      settings held    9
      waiting          1 setting waits for a restart, 3 for a sign-out

    Plainly wrong, the most worthwhile first
      A display runs below its highest rate
        Lumet 27Q runs at 60 hertz; at 2560x1440 it offers 165.
        Frames above the rate are made and never shown.
        → mend it: frevin apply --tweak graphics/highest-refresh
      A display runs below its highest rate
        Lumet 22S runs at 60 hertz; at 1920x1080 it offers 75.
        Frames above the rate are made and never shown.
        → mend it: frevin apply --tweak graphics/highest-refresh
      Memory runs below the speed that its modules name
        It runs at 2666 MT/s; its modules name 3600.
        Games that wait for memory lose several percent, the slowest frames most of all. Where processor
        or board allow no more, it is right as it is: then say so in the facts.
        → mend it: frevin tweak steps firmware/memory-profile
      Something waits for a restart
        1 settings that were changed act after the next restart.
        What is measured now is neither the old state nor the new one.
        → Restart the PC.
      The processor sees graphics memory through a small window
        The firmware has the resizable window switched off.
        Some games lose up to a tenth.
        → mend it: frevin tweak steps firmware/large-graphics-window

    Worth knowing: it costs something, and may be wanted so
      The graphics card does not schedule its own work
        Windows schedules, and the card could.
        Frame generation of games needs it; else it is contested: measure it.
        → mend it: frevin apply --tweak graphics/self-scheduling
    ");
    assert_snapshot!(place.run(&["snapshot", "show", "1"]).ok().out, @r"
    Snapshot 1, before evening@1, 2026-03-01 20:00
      setting                                                                            held
      registry:HKLM\SOFTWARE\Policies\Microsoft\Windows\GameDVR                          absent
      power:active-plan                                                                  balanced
      registry:HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\                           1
        GameDVR#HistoricalCaptureEnabled
      registry:HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\GameDVR#AppCaptureEnabled  1
      registry:HKLM\SOFTWARE\Policies\Microsoft\Windows\GameDVR#AllowGameDVR             absent
      service:SysMain#start                                                              automatic
      visual:menu-delay                                                                  400 ms
      registry:HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\                    0
        Memory Management#LargeSystemCache
      service:SysMain#running                                                            running
    ");
    assert_snapshot!(place.run(&["rehearsal", "restart"]).ok().out, @"
    Done. The PC was restarted.
    4 settings took effect:
      GameDVR › AllowGameDVR
      Memory Management › LargeSystemCache
      GameDVR › AppCaptureEnabled
      GameDVR › HistoricalCaptureEnabled
    ");

    assert_snapshot!(place.run(&["rollback", "1", "--yes"]).ok().out, @r"
      setting                               now               goes back to
      GameDVR › AllowGameDVR                0                 absent
      Memory Management › LargeSystemCache  1                 0
      GameDVR › AppCaptureEnabled           0                 1
      GameDVR › HistoricalCaptureEnabled    0                 1
      service SysMain, start                disabled          automatic
      power plan in force                   high performance  balanced
      menu delay                            50 ms             400 ms
      service SysMain                       stopped           running
      key HKLM\…\GameDVR                    present           absent

    Done. 9 settings put back and read back.
    Some of it waits for a restart.
    ");
    place.run(&["rehearsal", "restart"]).ok();
    assert_eq!(place.pc_files(), at_first);
    assert_snapshot!(place.run(&["rollback", "--list"]).ok().out, @"
    change  what       when              settings  status
         1  evening@1  2026-03-01 20:00  9         rolled back
    ");
}

#[test]
fn undo_files_hold_the_way_back_without_frevin() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    let mut folders = fs_err::read_dir(place.path().join("home/undo")).unwrap();
    let folder = folders.next().unwrap().unwrap().path();
    let registry = fs_err::read(folder.join("change-1.reg")).unwrap();
    let units: Vec<u16> =
        registry.chunks(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
    assert_eq!(units[0], 0xFEFF);
    assert_snapshot!(String::from_utf16(&units[1..]).unwrap().replace("\r\n", "\n"), @r#"
    Windows Registry Editor Version 5.00

    [HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Control\Session Manager\Memory Management]
    "LargeSystemCache"=dword:00000000

    [HKEY_LOCAL_MACHINE\SOFTWARE\Policies\Microsoft\Windows\GameDVR]
    "AllowGameDVR"=-

    [HKEY_CURRENT_USER\SOFTWARE\Microsoft\Windows\CurrentVersion\GameDVR]
    "AppCaptureEnabled"=dword:00000001
    "HistoricalCaptureEnabled"=dword:00000001

    ; These keys did not exist. Importing this file deletes them with all
    ; that other programs may have put into them since.

    [-HKEY_LOCAL_MACHINE\SOFTWARE\Policies\Microsoft\Windows\GameDVR]
    "#);
    let sheet = fs_err::read_to_string(folder.join("change-1.txt")).unwrap();
    assert_snapshot!(sheet.replace("\r\n", "\n"), @r#"
    Undo of change 1: evening@1

    What the settings outside the registry were before. The commands are Windows' own;
    run them in a terminal opened as administrator, in this order.

    visual:menu-delay
        was: 400 ms

    service:SysMain#start
        was: automatic
        run: sc.exe config "SysMain" start= auto

    power:active-plan
        was: balanced
        run: powercfg /setactive 381b4222-f694-41f0-9685-ff5bb260df2e

    service:SysMain#running
        was: running
        run: sc.exe start "SysMain"
    "#);
}

#[test]
fn a_restore_point_is_made_before_the_first_change_only_and_its_lack_is_told() {
    let place = Place::with_evening();
    let apply = ["apply", "--tweak", "looks/menu-delay", "--yes"];
    assert_eq!(place.json(&apply)["restore_point"]["made"]["number"], 1);
    let points = fs_err::read_to_string(place.pc().join("restore-points.json")).unwrap();
    assert!(points.contains("Before the first change"), "{points}");
    assert!(place.json(&["apply", "evening", "--yes"])["restore_point"].is_null());

    let place = Place::with_evening();
    place.write("pc/restore-points.json", "{\"is_switched_on\": false}");
    let said = place.run(&apply).ok();
    assert!(said.out.contains("they are switched off on this PC"), "{}", said.out);

    let place = Place::with_evening();
    place.write("pc/restore-points.json", "broken");
    let said = place.run(&apply).ok();
    assert!(said.out.contains("No restore point was made"), "{}", said.out);

    let place = Place::with_evening();
    fs_err::remove_file(place.pc().join("restore-points.json")).unwrap();
    let said = place.run(&apply).ok();
    assert!(said.out.contains("does not offer restore points"), "{}", said.out);
}

#[test]
fn a_preview_tells_what_waits_from_earlier_changes() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    let said = place.run(&["preview", "--tweak", "looks/menu-delay"]).ok();
    assert!(said.out.contains("From earlier changes, 1 setting waits"), "{}", said.out);
    place.run(&["rehearsal", "restart"]).ok();
    let said = place.run(&["preview", "--tweak", "looks/menu-delay"]).ok();
    assert!(!said.out.contains("From earlier changes"), "{}", said.out);
}

#[test]
fn one_tweak_comes_out_from_under_later_changes() {
    let place = Place::with_evening();
    let at_first = place.pc_files();
    place.run(&["apply", "evening", "--yes"]).ok();
    place.run(&["apply", "--tweak", "looks/menu-delay", "--set", "delay_ms=7", "-y"]).ok();
    let said = place.run(&["rollback", "1", "--tweak", "looks/menu-delay", "--yes"]).ok();
    assert_snapshot!(said.out, @"
      setting     now   goes back to
      menu delay  7 ms  stays: something applied later wants it so

    Done. Nothing had to be written.
    ");
    let shown = place.json(&["tweak", "show", "looks/menu-delay"]);
    assert_eq!(shown["here"]["settings"][0]["now"]["value"]["milliseconds"], 7);
    place.run(&["rollback", "--tweak", "looks/menu-delay", "--yes"]).ok();
    let shown = place.json(&["tweak", "show", "looks/menu-delay"]);
    assert_eq!(shown["here"]["settings"][0]["now"]["value"]["milliseconds"], 400);
    assert_snapshot!(place.run(&["rollback", "--list"]).ok().out, @"
    change  what              when              settings  status
         2  looks/menu-delay  2026-03-01 20:00  1         rolled back
         1  evening@1         2026-03-01 20:00  9         in force but for 1
    ");
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.pc_files(), at_first);
    let said = place.run(&["rollback", "--all", "--yes"]).ok();
    assert_snapshot!(said.out, @"Nothing to roll back: Frevin holds nothing of that on this PC.");
}

#[test]
fn a_profile_has_revisions_that_stay() {
    let place = Place::with_evening();
    let again = place.run(&["profile", "save", "evening.toml"]).ok();
    assert_snapshot!(again.out, @"Nothing new: the document is evening@1 3fb2ab5bc5 already.");
    place.write("evening.toml", common::EVENING.replace("50", "60"));
    place.run(&["profile", "save", "evening.toml", "-m", "quicker"]).ok();
    assert_snapshot!(place.run(&["profile", "log", "evening"]).ok().out, @"
    revision   hash        saved             after  message
    evening@2  e847a69d44  2026-03-01 20:00  @1     quicker
    evening@1  3fb2ab5bc5  2026-03-01 20:00         first
    ");
    assert_snapshot!(place.run(&["profile", "list"]).ok().out, @"
    profile    saved             tweaks  purpose
    evening@2  2026-03-01 20:00       5  Smooth frames
    ");
    assert_eq!(place.run(&["profile", "show", "evening@1"]).ok().out, common::EVENING);
    let hash = place.json(&["profile", "show", "evening@1"])["hash"].as_str().unwrap().to_owned();
    let by_hash = format!("evening@{}", &hash[..6]);
    assert_eq!(place.run(&["profile", "show", &by_hash]).ok().out, common::EVENING);
    let preview = place.run(&["preview", "evening@1"]).ok().out;
    assert!(preview.contains("50 ms"), "{preview}");
}

#[test]
fn a_new_profile_can_be_checked_saved_and_previewed_as_it_is() {
    let place = Place::new();
    let said = place.run(&[
        "profile",
        "new",
        "quiet",
        "--purpose",
        "Less going on",
        "--tweak",
        "services/file-search",
        "--tweak",
        "cpu/foreground-share",
    ]);
    assert_snapshot!(said.ok().out, @"
    Done. quiet.toml is a profile to fill in.
      check it  frevin profile check quiet.toml
      save it   frevin profile save quiet.toml
    ");
    assert_snapshot!(fs_err::read_to_string(place.path().join("quiet.toml")).unwrap(), @r#"
    format = 1
    name = "quiet"
    purpose = "Less going on"

    # Stop indexing files for search
    [[tweaks]]
    use = "services/file-search"
    with = { start = "manual" }

    # Divide processor time between the game and the rest
    [[tweaks]]
    use = "cpu/foreground-share"
    with = { turns = "as-windows-does" }
    "#);
    assert_snapshot!(place.run(&["profile", "check", "quiet.toml"]).ok().out, @"
    Good. `quiet` is a profile of 2 tweaks, checked on Test desktop.
      line 6 left out here services/file-search
        does not fit this PC: The owner searches files from the task bar, which this would break.
        → leave it: it is left out here, and applied where it fits
      line 11 note cpu/foreground-share
        contested: The mechanism is documented, but with idle cores at hand turns rarely run out, and
        measurements disagree.
        → measure it: apply it, record runs with and without, compare them
      line 11 no effect cpu/foreground-share
        does nothing on this PC: it is so already
        → leave it for other PCs, or remove it
    ");
    let preview = place.run(&["preview", "./quiet.toml"]).ok().out;
    assert!(preview.contains("quiet (not saved)"), "{preview}");
    place.run(&["profile", "save", "quiet.toml"]).ok();
    place.run(&["profile", "new", "quiet"]).fails(4);
}

#[test]
fn drift_is_told_and_others_hands_are_respected() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    assert_snapshot!(place.run(&["drift"]).ok().out, @"
    No drift. 9 settings held, all as Frevin left them.
    1 setting waits for a restart, 3 for a sign-out.
      GameDVR › AllowGameDVR waits for a sign-out
      Memory Management › LargeSystemCache waits for a restart
      GameDVR › AppCaptureEnabled waits for a sign-out
      GameDVR › HistoricalCaptureEnabled waits for a sign-out
    ");
    // Somebody else's hands: a file of the PC is edited.
    let visual = place.pc().join("settings/visual.json");
    let text = fs_err::read_to_string(&visual).unwrap();
    fs_err::write(&visual, text.replace("\"milliseconds\": 50", "\"milliseconds\": 90")).unwrap();
    assert_snapshot!(place.run(&["drift"]).fails(1).out, @"
    Drift. 1 of 9 settings held by Frevin changed since.
      setting     Frevin left  now    for                           at first
      menu delay  50 ms        90 ms  looks/menu-delay in change 1  400 ms
    Somebody else wrote these. `frevin drift` settles it, with one of:
      --keep   leave what others wrote, and hold it no longer
      --force  put back what Frevin left
    1 setting waits for a restart, 3 for a sign-out.
      GameDVR › AllowGameDVR waits for a sign-out
      Memory Management › LargeSystemCache waits for a restart
      GameDVR › AppCaptureEnabled waits for a sign-out
      GameDVR › HistoricalCaptureEnabled waits for a sign-out
    ");
    let refused = place.run(&["rollback", "--all", "--yes"]).fails(9);
    assert_snapshot!(refused.err, @"
    error: nothing was changed: somebody else has changed these settings since
      visual:menu-delay: Frevin left 50 ms, it holds 90 ms, it would go back to 400 ms
    help: --keep leaves what they wrote and lets go of the setting
    help: --force puts back what was there before Frevin
    ");
    let over = ["apply", "--tweak", "looks/menu-delay", "--set", "delay_ms=7", "--yes"];
    assert_snapshot!(place.run(&over).fails(9).err, @"
    error: nothing was changed: somebody else has changed these settings since
      visual:menu-delay: change 1 left 50 ms, it holds 90 ms
    help: `frevin rollback --tweak looks/menu-delay --keep` leaves what they wrote and holds the setting no longer
    help: --force overwrites it
    ");
    let kept = place.run(&["rollback", "--all", "--keep", "--yes"]).ok();
    assert!(kept.out.contains("somebody else wrote it"), "{}", kept.out);
    let shown = place.json(&["tweak", "show", "looks/menu-delay"]);
    assert_eq!(shown["here"]["settings"][0]["now"]["value"]["milliseconds"], 90);
}

/// A PC with the profile in force, whose menu delay somebody else has changed since.
fn drifted() -> Place {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    let write = ["rehearsal", "fault", "--others-write", "visual:menu-delay=90"];
    let said = place.run(&write).ok().out;
    assert_eq!(said, "Somebody else wrote menu delay.\n");
    place
}

fn menu_delay_ms(place: &Place) -> u64 {
    let shown = place.json(&["tweak", "show", "looks/menu-delay"]);
    shown["here"]["settings"][0]["now"]["value"]["milliseconds"].as_u64().unwrap()
}

#[test]
fn drift_is_settled_by_keeping_what_others_wrote() {
    let place = drifted();
    place.run(&["drift", "--keep"]).fails(2);
    assert_snapshot!(place.run(&["drift", "--keep", "--yes"]).ok().out, @"Settled. 1 setting held no longer: what others wrote stays, and no rollback touches it.");
    place.run(&["drift"]).ok();
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(menu_delay_ms(&place), 90, "let go");
}

#[test]
fn drift_is_settled_by_putting_back_what_frevin_left() {
    let place = drifted();
    assert_snapshot!(place.run(&["drift", "--force", "--yes"]).ok().out, @"Settled. 1 setting put back to what Frevin left, and read back.");
    place.run(&["drift"]).ok();
    assert_eq!(menu_delay_ms(&place), 50);
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(menu_delay_ms(&place), 400, "and the way back is the same");
}

#[test]
fn settling_drift_can_be_interrupted_like_anything_else() {
    let place = drifted();
    place.run(&["rehearsal", "fault", "--power-cut-after", "0"]).ok();
    place.run(&["drift", "--force", "--yes"]).fails(-1);
    place.run(&["drift"]).fails(7);
    place.run(&["recover"]).ok();
    place.run(&["drift"]).ok();
    assert_eq!(menu_delay_ms(&place), 50);
}

#[test]
fn an_update_of_the_operating_system_is_seen_as_drift() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    place.run(&["rehearsal", "restart"]).ok();
    assert_snapshot!(place.run(&["rehearsal", "update"]).ok().out, @"
    Updated. The PC has restarted.
    The update set 2 settings anew:
      power plan in force
      GameDVR › AppCaptureEnabled
    ");
    assert_snapshot!(place.run(&["drift"]).fails(1).out, @"
    Drift. 2 of 9 settings held by Frevin changed since.
      setting                      Frevin left       now       for                              at first
      GameDVR › AppCaptureEnabled  0                 1         recording/background in change   1
                                                               1
      power plan in force          high performance  balanced  power/active-plan in change 1    balanced
    Somebody else wrote these. `frevin drift` settles it, with one of:
      --keep   leave what others wrote, and hold it no longer
      --force  put back what Frevin left
    ");
    place.run(&["drift", "--force", "--yes"]).ok();
    place.run(&["drift"]).ok();
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_snapshot!(place.run(&["rehearsal", "update"]).ok().out, @"
    Updated. The PC has restarted.
    The update found every setting as it wants it.
    ");
}

#[test]
fn snapshots_taken_by_hand_are_compared_with_each_other_and_with_now() {
    let place = Place::with_evening();
    assert_snapshot!(place.run(&["snapshot", "take", "--name", "new PC"]).ok().out, @"Taken. Snapshot 1 (new PC) holds 561 settings.");
    assert_snapshot!(place.run(&["snapshot", "diff", "1"]).ok().out, @"No difference between snapshot 1 and the PC now, over 561 settings.");
    place.run(&["apply", "evening", "--yes"]).ok();
    assert_snapshot!(place.run(&["snapshot", "diff", "1"]).ok().out, @r"
    9 of 563 settings differ between snapshot 1 and the PC now
      setting                               first      second
      key HKLM\…\GameDVR                    absent     present
      GameDVR › AllowGameDVR                absent     0
      Memory Management › LargeSystemCache  0          1
      GameDVR › AppCaptureEnabled           1          0
      GameDVR › HistoricalCaptureEnabled    1          0
      service SysMain, start                automatic  disabled
      service SysMain                       running    stopped
      power plan in force                   balanced   high performance
      menu delay                            400 ms     50 ms
    ");
    place.run(&["snapshot", "take", "--name", "evening"]).ok();
    let both = place.json(&["snapshot", "diff", "1", "3"]);
    let now = place.json(&["snapshot", "diff", "1"]);
    assert_eq!(both["differences"], now["differences"]);
    // The snapshot of the change holds what it touched, and is compared by that.
    let of_change = place.json(&["snapshot", "diff", "2"]);
    assert_eq!(of_change["compared"], common::EVENING_WRITES);
    assert_eq!(of_change["differences"].as_array().unwrap().len() as u64, common::EVENING_WRITES);
    place.run(&["rollback", "--all", "--yes"]).ok();
    let back = place.json(&["snapshot", "diff", "1"]);
    assert!(back["differences"].as_array().unwrap().is_empty());
    place.run(&["snapshot", "diff", "1", "9"]).fails(3);
    assert_snapshot!(place.run(&["snapshot", "list"]).ok().out, @"
    snapshot  taken             settings  for
           3  2026-03-01 20:00       563  evening
           2  2026-03-01 20:00         9  before evening@1
           1  2026-03-01 20:00       561  new PC
    ");
}

#[test]
fn a_key_that_others_use_since_stays() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    let registry = place.pc().join("settings/registry.json");
    let text = fs_err::read_to_string(&registry).unwrap();
    let value = "\"AllowGameDVR\": {";
    let theirs = format!("\"Theirs\": {{\"type\": 4, \"bytes\": \"01000000\"}}, {value}");
    assert!(text.contains(value));
    fs_err::write(&registry, text.replace(value, &theirs)).unwrap();
    let said = place.run(&["rollback", "--all", "--yes"]).ok();
    assert!(said.out.contains("stays: others have put something into it"), "{}", said.out);
    let text = fs_err::read_to_string(&registry).unwrap();
    assert!(text.contains("Theirs") && !text.contains("AllowGameDVR"));
}

#[test]
fn what_two_changes_want_alike_is_held_until_both_are_taken_back() {
    let place = Place::new();
    place.run(&["apply", "--tweak", "looks/menu-delay", "-y"]).ok();
    let said = place.run(&["apply", "--tweak", "looks/menu-delay", "-y"]).ok();
    assert_snapshot!(said.out, @"Nothing to change: all of it is in force already, by change 1.");
    let both = "format = 1\nname = \"both\"\npurpose = \"p\"\n[[tweaks]]\nuse = \"looks/menu-delay\"\n\
        [[tweaks]]\nuse = \"looks/hover-delay\"\n";
    place.write("both.toml", both);
    place.run(&["profile", "save", "both.toml"]).ok();
    place.run(&["apply", "both", "-y"]).ok();
    place.run(&["rollback", "1", "-y"]).ok();
    let shown = place.json(&["tweak", "show", "looks/menu-delay"]);
    assert_eq!(shown["here"]["settings"][0]["now"]["value"]["milliseconds"], 100);
    place.run(&["rollback", "2", "-y"]).ok();
    let shown = place.json(&["tweak", "show", "looks/menu-delay"]);
    assert_eq!(shown["here"]["settings"][0]["now"]["value"]["milliseconds"], 400);
}

#[test]
fn what_is_protected_needs_the_owners_word_for_that_tweak() {
    let place = Place::new();
    let at_first = place.pc_files();
    let args = ["apply", "--tweak", "security/sample-submission", "--yes"];
    assert_snapshot!(place.run(&args).fails(5).err, @"
    error: nothing was changed: what this touches is protected
      `security/sample-submission` wants protection:sample-submission#enabled, which guards the PC against malware
    help: if you are sure, allow each tweak by name: --allow-protected security/sample-submission
    ");
    let other = [&args[..], &["--allow-protected", "looks/menu-delay"]].concat();
    place.run(&other).fails(5);
    assert_eq!(place.pc_files(), at_first);
    let allowed = [&args[..], &["--allow-protected", "security/sample-submission"]].concat();
    place.run(&allowed).ok();
    assert_ne!(place.pc_files(), at_first);
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.pc_files(), at_first);
}

#[test]
fn tweaks_of_named_things_are_previewed_in_plain_words() {
    let place = Place::new();
    place.write(
        "things.toml",
        "format = 1\nname = \"things\"\npurpose = \"p\"\n\
         [[tweaks]]\nuse = \"privacy/diagnostic-tasks\"\n\
         [[tweaks]]\nuse = \"memory/page-file\"\nwith = { size = \"share\", first_percent = 25, largest_percent = 25 }\n\
         [[tweaks]]\nuse = \"boot/dynamic-tick\"\n[[tweaks]]\nuse = \"graphics/variable-refresh\"\n",
    );
    place.run(&["profile", "save", "things.toml"]).ok();
    assert_snapshot!(place.run(&["preview", "things"]).ok().out, @r#"
    What things@1 would change on this PC

    privacy/diagnostic-tasks  Switch off the tasks that collect usage data  plausible, trade-off
      setting                                          now  after  takes effect
      task Microsoft Compatibility Appraiser, enabled  on   off    now
      task ProgramDataUpdater, enabled                 on   off    now
      task Consolidator, enabled                       on   off    now
      task UsbCeip, enabled                            on   off    now
      left out of it: this PC has no task \Microsoft\Windows\Customer Experience Improvement
      Program\KernelCeipTask
      left out of it: this PC has no task \Microsoft\Windows\Application Experience\AitAgent
      left out of it: this PC has no task \Microsoft\Windows\Application Experience\MareBackup
      left out of it: this PC has no task \Microsoft\Windows\Autochk\Proxy

    memory/page-file  Size the page file  contested, trade-off
      setting            now             after          takes effect
      pagefile C:, size  system-managed  4096-4096 MiB  after restart

    boot/dynamic-tick  Keep the timer ticking while idle  contested, trade-off
      setting                           now     after  takes effect
      boot current, disabledynamictick  absent  "yes"  after restart

    graphics/variable-refresh  Vary the refresh rate for games that do not ask for it  plausible, safe
      setting                                           now  after  takes effect
      UserGpuPreferences › DirectXUserGlobalSettings ›  0    1      after program restart
      VRROptimizeEnable

    7 settings would be written. The last of it acts after a restart.
    "#);
    let at_first = place.pc_files();
    place.run(&["apply", "things", "--yes"]).ok();
    place.run(&["rehearsal", "restart"]).ok();
    place.run(&["rollback", "--all", "--yes"]).ok();
    place.run(&["rehearsal", "restart"]).ok();
    assert_eq!(place.pc_files(), at_first);
}

#[test]
fn a_service_takes_those_that_need_it_along_both_ways() {
    let place = Place::new();
    let facts = place.pc().join("facts.toml");
    let text = fs_err::read_to_string(&facts).unwrap();
    fs_err::write(&facts, text.replace("printer = true", "printer = false")).unwrap();
    let at_first = place.pc_files();
    assert_snapshot!(place.run(&["preview", "--tweak", "services/printing"]).ok().out, @"
    What services/printing would change on this PC

    services/printing  Stop printing  plausible, trade-off
      setting                                now        after     takes effect
      service Spooler, start                 automatic  disabled  now
      service PrintNotify (follows from it)  running    stopped   now
      service Spooler                        running    stopped   now

    3 settings would be written. All of it acts at once.
    ");
    place.run(&["apply", "--tweak", "services/printing", "-y"]).ok();
    assert_snapshot!(place.run(&["rollback", "--all", "-y"]).ok().out, @"
      setting                 now       goes back to
      service Spooler, start  disabled  automatic
      service Spooler         stopped   running
      service PrintNotify     stopped   running

    Done. 3 settings put back and read back.
    ");
    assert_eq!(place.pc_files(), at_first);
}

#[test]
fn the_demo_tells_the_story_and_leaves_the_pc_as_it_was() {
    let place = Place::empty();
    let said = place.run(&["demo"]).ok();
    for part in [
        "Worse.",
        "hurts",
        "bit for bit",
        "Trial 1: is friday-evening@1 better",
        "It is kept: it is better",
        "Saved as what-helps@1",
    ] {
        assert!(said.out.contains(part), "{part} is missing of:\n{}", said.out);
    }
    assert!(!said.out.contains('\u{1b}'), "no colours in a pipe");
    // The place is also where temporary files go: the page is all that is left of it.
    let left = fs_err::read_dir(place.path()).unwrap();
    let left: Vec<_> = left.map(|entry| entry.unwrap().file_name()).collect();
    let is_page = |name: &std::ffi::OsString| name.to_string_lossy().ends_with(".html");
    assert!(left.len() == 1 && left.iter().all(is_page), "{left:?}");

    let report = place.json(&["demo", "--keep", "kept"]);
    assert_eq!(report["is_as_at_first"], true);
    assert_eq!(report["with_everything"]["verdict"], "worse");
    assert_eq!(report["sift"]["verdict"], "better");
    assert!(place.path().join("kept/pc/pc.toml").exists());
    // It ends with the page of what was found, and says where that is.
    let page = fs_err::read_to_string(place.path().join("kept/report.html")).unwrap();
    assert!(page.contains("Which of friday-evening@1 matter") && page.contains("hurts"));
    place.run(&["demo", "--keep", "kept"]).fails(4);
}

#[test]
fn a_restore_point_is_made_when_it_is_asked_for() {
    let place = Place::new();
    let made = place.json(&["snapshot", "restore-point", "--name", "Before the new driver"]);
    assert_eq!(made["restore_point"], 1);
    let kept = fs_err::read_to_string(place.pc().join("restore-points.json")).unwrap();
    assert!(kept.contains("Before the new driver"), "{kept}");
    assert_snapshot!(place.run(&["snapshot", "restore-point"]).ok().out, @"Made. Restore point 2 (Asked for by hand).");
    let old = Place::empty();
    old.run(&["rehearsal", "new", "pc", "--like", "old-pc"]).ok();
    assert_snapshot!(old.run(&["snapshot", "restore-point"]).fails(6).err, @"
    error: no restore point was made: they are switched off on this PC
    help: `frevin tweak show safety/restore-points` says how to switch them on
    ");
}
