/* What the tests on Wine need of a PC and stock commands do not give:
 *   fixture serve plain|stubborn    a service; a stubborn one never finishes stopping
 *   fixture stay                    keeps the PC on: Wine switches it off when nothing runs
 *   fixture deny KEY                nobody may write below HKEY_CURRENT_USER\KEY from now on
 */
#include <windows.h>
#include <aclapi.h>
#include <string.h>

static SERVICE_STATUS_HANDLE service;
static SERVICE_STATUS status = { SERVICE_WIN32_OWN_PROCESS };
static BOOL is_stubborn;
static HANDLE stopped;

static void report(DWORD state)
{
    status.dwCurrentState = state;
    status.dwControlsAccepted = state == SERVICE_RUNNING ? SERVICE_ACCEPT_STOP : 0;
    SetServiceStatus(service, &status);
}

static void WINAPI control(DWORD code)
{
    if (code != SERVICE_CONTROL_STOP)
        return;
    report(SERVICE_STOP_PENDING);
    if (!is_stubborn)
        SetEvent(stopped);
}

static void WINAPI serve(DWORD count, LPWSTR *arguments)
{
    service = RegisterServiceCtrlHandlerW(L"", control);
    stopped = CreateEventW(NULL, TRUE, FALSE, NULL);
    report(SERVICE_RUNNING);
    WaitForSingleObject(stopped, INFINITE);
    report(SERVICE_STOPPED);
}

static int deny(const char *path)
{
    HKEY key;
    LSTATUS answer = RegOpenKeyExA(HKEY_CURRENT_USER, path, 0, WRITE_DAC | READ_CONTROL, &key);
    if (answer)
        return answer;
    /* One entry: everybody may read. */
    EXPLICIT_ACCESSA entry = { KEY_READ | WRITE_DAC, SET_ACCESS, SUB_CONTAINERS_AND_OBJECTS_INHERIT };
    BYTE everyone[SECURITY_MAX_SID_SIZE];
    DWORD length = sizeof(everyone);
    PACL made = NULL;
    CreateWellKnownSid(WinWorldSid, NULL, everyone, &length);
    entry.Trustee.TrusteeForm = TRUSTEE_IS_SID;
    entry.Trustee.ptstrName = (char *)everyone;
    answer = SetEntriesInAclA(1, &entry, NULL, &made);
    if (!answer) {
        SECURITY_DESCRIPTOR descriptor;
        InitializeSecurityDescriptor(&descriptor, SECURITY_DESCRIPTOR_REVISION);
        SetSecurityDescriptorDacl(&descriptor, TRUE, made, FALSE);
        answer = RegSetKeySecurity(key, DACL_SECURITY_INFORMATION, &descriptor);
    }
    return answer;
}

int main(int count, char **arguments)
{
    if (count == 2 && !strcmp(arguments[1], "stay"))
        Sleep(INFINITE);
    if (count == 3 && !strcmp(arguments[1], "deny"))
        return deny(arguments[2]);
    if (count == 3 && !strcmp(arguments[1], "serve")) {
        SERVICE_TABLE_ENTRYW table[] = { { L"", serve }, { NULL, NULL } };
        is_stubborn = !strcmp(arguments[2], "stubborn");
        return !StartServiceCtrlDispatcherW(table);
    }
    return 87;
}
