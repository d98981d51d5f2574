/* Wine 8 has no bcryptprimitives.dll, which the standard library takes random numbers from. */
#include <windows.h>

BOOLEAN NTAPI SystemFunction036(PVOID buffer, ULONG length);

__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T size)
{
    return SystemFunction036(data, (ULONG)size);
}
