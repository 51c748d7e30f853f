/* What the stand-in UEFI loader uses of UEFI 2.10, declared by the specification's names and order. */

#pragma once
#include <stddef.h>
#include <stdint.h>

#ifdef __x86_64__
#define EFIAPI __attribute__((ms_abi))
#else
#define EFIAPI
#endif

typedef uintptr_t EFI_STATUS;
typedef void *EFI_HANDLE;
typedef uint16_t CHAR16;
typedef struct { uint32_t a; uint16_t b, c; uint8_t d[8]; } EFI_GUID;

#define EFI_SUCCESS 0
#define EFI_OPEN_PROTOCOL_GET_PROTOCOL 2
#define EFI_FILE_MODE_READ 1ULL
#define EFI_FILE_DIRECTORY 0x10ULL
#define EFI_RESET_SHUTDOWN 2

typedef struct {                        /* 4.2 EFI_TABLE_HEADER */
    uint64_t Signature;
    uint32_t Revision, HeaderSize, CRC32, Reserved;
} EFI_TABLE_HEADER;

typedef struct SIMPLE_TEXT_OUTPUT {     /* 12.4 EFI_SIMPLE_TEXT_OUTPUT_PROTOCOL */
    void *Reset;
    EFI_STATUS (EFIAPI *OutputString)(struct SIMPLE_TEXT_OUTPUT *self, CHAR16 *text);
} SIMPLE_TEXT_OUTPUT;

typedef struct SERIAL_IO {              /* 12.8 EFI_SERIAL_IO_PROTOCOL */
    uint32_t Revision;
    void *Reset, *SetAttributes, *SetControl, *GetControl;
    EFI_STATUS (EFIAPI *Write)(struct SERIAL_IO *self, uintptr_t *size, const void *data);
} SERIAL_IO;

typedef struct FILE_PROTOCOL {          /* 13.5 EFI_FILE_PROTOCOL */
    uint64_t Revision;
    EFI_STATUS (EFIAPI *Open)(struct FILE_PROTOCOL *self, struct FILE_PROTOCOL **opened, const CHAR16 *name,
                              uint64_t mode, uint64_t attributes);
    EFI_STATUS (EFIAPI *Close)(struct FILE_PROTOCOL *self);
    void *Delete;
    EFI_STATUS (EFIAPI *Read)(struct FILE_PROTOCOL *self, uintptr_t *size, void *buffer);
} FILE_PROTOCOL;

typedef struct SIMPLE_FILE_SYSTEM {     /* 13.4 EFI_SIMPLE_FILE_SYSTEM_PROTOCOL */
    uint64_t Revision;
    EFI_STATUS (EFIAPI *OpenVolume)(struct SIMPLE_FILE_SYSTEM *self, FILE_PROTOCOL **root);
} SIMPLE_FILE_SYSTEM;

typedef struct {                        /* 13.5 EFI_FILE_INFO */
    uint64_t Size, FileSize, PhysicalSize;
    uint8_t CreateTime[16], LastAccessTime[16], ModificationTime[16];
    uint64_t Attribute;
    CHAR16 FileName[1];
} EFI_FILE_INFO;
_Static_assert(offsetof(EFI_FILE_INFO, FileName) == 80, "EFI_FILE_INFO");

typedef struct {                        /* 9.1 EFI_LOADED_IMAGE_PROTOCOL */
    uint32_t Revision;
    EFI_HANDLE ParentHandle;
    struct EFI_SYSTEM_TABLE *SystemTable;
    EFI_HANDLE DeviceHandle;
} LOADED_IMAGE;

typedef struct {                        /* 4.4 EFI_BOOT_SERVICES, as far as it is used */
    EFI_TABLE_HEADER Hdr;
    void *RaiseTPL, *RestoreTPL;
    void *AllocatePages, *FreePages, *GetMemoryMap;
    EFI_STATUS (EFIAPI *AllocatePool)(int type, uintptr_t size, void **buffer);
    EFI_STATUS (EFIAPI *FreePool)(void *buffer);
    void *CreateEvent, *SetTimer, *WaitForEvent, *SignalEvent, *CloseEvent, *CheckEvent;
    void *InstallProtocolInterface, *ReinstallProtocolInterface, *UninstallProtocolInterface;
    EFI_STATUS (EFIAPI *HandleProtocol)(EFI_HANDLE handle, const EFI_GUID *protocol, void **found);
    void *Reserved, *RegisterProtocolNotify, *LocateHandle, *LocateDevicePath, *InstallConfigurationTable;
    void *LoadImage, *StartImage, *Exit, *UnloadImage, *ExitBootServices;
    void *GetNextMonotonicCount, *Stall;
    EFI_STATUS (EFIAPI *SetWatchdogTimer)(uintptr_t seconds, uint64_t code, uintptr_t size, CHAR16 *data);
    void *ConnectController, *DisconnectController;
    void *OpenProtocol, *CloseProtocol, *OpenProtocolInformation;
    void *ProtocolsPerHandle, *LocateHandleBuffer;
    EFI_STATUS (EFIAPI *LocateProtocol)(const EFI_GUID *protocol, void *registration, void **found);
} EFI_BOOT_SERVICES;

typedef struct {                        /* 4.5 EFI_RUNTIME_SERVICES, as far as it is used */
    EFI_TABLE_HEADER Hdr;
    void *GetTime, *SetTime, *GetWakeupTime, *SetWakeupTime, *SetVirtualAddressMap, *ConvertPointer;
    void *GetVariable, *GetNextVariableName, *SetVariable, *GetNextHighMonotonicCount;
    void (EFIAPI *ResetSystem)(int type, EFI_STATUS status, uintptr_t size, void *data);
} EFI_RUNTIME_SERVICES;

typedef struct EFI_SYSTEM_TABLE {       /* 4.3 EFI_SYSTEM_TABLE */
    EFI_TABLE_HEADER Hdr;
    CHAR16 *FirmwareVendor;
    uint32_t FirmwareRevision;
    EFI_HANDLE ConsoleInHandle;
    void *ConIn;
    EFI_HANDLE ConsoleOutHandle;
    SIMPLE_TEXT_OUTPUT *ConOut;
    EFI_HANDLE StandardErrorHandle;
    void *StdErr;
    EFI_RUNTIME_SERVICES *RuntimeServices;
    EFI_BOOT_SERVICES *BootServices;
} EFI_SYSTEM_TABLE;
