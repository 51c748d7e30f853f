/* Offers the files of an NTFS volume to UEFI programs, read-only (UEFI 2.10, 13.4 and 13.5). */

#pragma once
#include "../efi.h"
#include "ntfs.h"

/* Puts a simple file system on `handle`; EFI_ACCESS_DENIED when one is there already. `volume` must stay. */
EFI_STATUS offer_files(EFI_BOOT_SERVICES *services, EFI_HANDLE handle, struct ntfs *volume);

/* Takes it away again, before the program that serves it leaves memory; fails where the firmware holds on to it. */
EFI_STATUS withdraw_files(void);
