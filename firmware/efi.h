/* What the crossing and the stand-in loader use of UEFI 2.10, declared by the specification's names and order. */

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
#define EFI_ERROR(code) ((EFI_STATUS)1 << (8 * sizeof(EFI_STATUS) - 1) | (code))        /* appendix D */
#define EFI_UNSUPPORTED EFI_ERROR(3)
#define EFI_BUFFER_TOO_SMALL EFI_ERROR(5)
#define EFI_DEVICE_ERROR EFI_ERROR(7)
#define EFI_WRITE_PROTECTED EFI_ERROR(8)
#define EFI_OUT_OF_RESOURCES EFI_ERROR(9)
#define EFI_VOLUME_CORRUPTED EFI_ERROR(10)
#define EFI_NOT_FOUND EFI_ERROR(14)
#define EFI_ACCESS_DENIED EFI_ERROR(15)
#define EFI_SECURITY_VIOLATION EFI_ERROR(26)
#define EFI_LOADER_DATA 2
#define EFI_BY_PROTOCOL 2
#define EFI_NATIVE_INTERFACE 0

typedef struct {                        /* 4.2 EFI_TABLE_HEADER */
    uint64_t Signature;
    uint32_t Revision, HeaderSize, CRC32, Reserved;
} EFI_TABLE_HEADER;

typedef struct SIMPLE_TEXT_OUTPUT {     /* 12.4 EFI_SIMPLE_TEXT_OUTPUT_PROTOCOL */
    void *Reset;
    EFI_STATUS (EFIAPI *OutputString)(struct SIMPLE_TEXT_OUTPUT *self, CHAR16 *text);
} SIMPLE_TEXT_OUTPUT;

typedef struct SIMPLE_TEXT_INPUT {      /* 12.3 EFI_SIMPLE_TEXT_INPUT_PROTOCOL */
    void *Reset;
    EFI_STATUS (EFIAPI *ReadKeyStroke)(struct SIMPLE_TEXT_INPUT *self, void *key);
} SIMPLE_TEXT_INPUT;

typedef struct {                        /* 10.3 EFI_DEVICE_PATH_PROTOCOL */
    uint8_t Type, SubType, Length[2];
} DEVICE_PATH;

typedef struct {                        /* 13.9 EFI_BLOCK_IO_MEDIA */
    uint32_t MediaId;
    uint8_t RemovableMedia, MediaPresent, LogicalPartition, ReadOnly, WriteCaching;
    uint32_t BlockSize, IoAlign;
    uint64_t LastBlock;
} BLOCK_IO_MEDIA;

typedef struct BLOCK_IO {               /* 13.9 EFI_BLOCK_IO_PROTOCOL */
    uint64_t Revision;
    BLOCK_IO_MEDIA *Media;
    void *Reset;
    EFI_STATUS (EFIAPI *ReadBlocks)(struct BLOCK_IO *self, uint32_t media, uint64_t lba, uintptr_t size, void *buffer);
} BLOCK_IO;

typedef struct DISK_IO {                /* 13.7 EFI_DISK_IO_PROTOCOL */
    uint64_t Revision;
    EFI_STATUS (EFIAPI *ReadDisk)(struct DISK_IO *self, uint32_t media, uint64_t offset, uintptr_t size, void *buffer);
} DISK_IO;

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
    EFI_STATUS (EFIAPI *Delete)(struct FILE_PROTOCOL *self);
    EFI_STATUS (EFIAPI *Read)(struct FILE_PROTOCOL *self, uintptr_t *size, void *buffer);
    EFI_STATUS (EFIAPI *Write)(struct FILE_PROTOCOL *self, uintptr_t *size, void *buffer);
    EFI_STATUS (EFIAPI *GetPosition)(struct FILE_PROTOCOL *self, uint64_t *position);
    EFI_STATUS (EFIAPI *SetPosition)(struct FILE_PROTOCOL *self, uint64_t position);
    EFI_STATUS (EFIAPI *GetInfo)(struct FILE_PROTOCOL *self, const EFI_GUID *type, uintptr_t *size, void *buffer);
    EFI_STATUS (EFIAPI *SetInfo)(struct FILE_PROTOCOL *self, const EFI_GUID *type, uintptr_t size, void *buffer);
    EFI_STATUS (EFIAPI *Flush)(struct FILE_PROTOCOL *self);
} FILE_PROTOCOL;

typedef struct SIMPLE_FILE_SYSTEM {     /* 13.4 EFI_SIMPLE_FILE_SYSTEM_PROTOCOL */
    uint64_t Revision;
    EFI_STATUS (EFIAPI *OpenVolume)(struct SIMPLE_FILE_SYSTEM *self, FILE_PROTOCOL **root);
} SIMPLE_FILE_SYSTEM;

typedef struct {                        /* 8.3 EFI_TIME */
    uint16_t Year;
    uint8_t Month, Day, Hour, Minute, Second, Pad1;
    uint32_t Nanosecond;
    int16_t TimeZone;
    uint8_t Daylight, Pad2;
} EFI_TIME;

typedef struct {                        /* 13.5 EFI_FILE_INFO */
    uint64_t Size, FileSize, PhysicalSize;
    EFI_TIME CreateTime, LastAccessTime, ModificationTime;
    uint64_t Attribute;
    CHAR16 FileName[1];
} EFI_FILE_INFO;
_Static_assert(offsetof(EFI_FILE_INFO, FileName) == 80, "EFI_FILE_INFO");

typedef struct {                        /* 13.5 EFI_FILE_SYSTEM_INFO */
    uint64_t Size;
    uint8_t ReadOnly;
    uint64_t VolumeSize, FreeSpace;
    uint32_t BlockSize;
    CHAR16 VolumeLabel[1];
} EFI_FILE_SYSTEM_INFO;

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
    EFI_STATUS (EFIAPI *InstallProtocolInterface)(EFI_HANDLE *handle, const EFI_GUID *protocol, int type, void *interface);
    void *ReinstallProtocolInterface;
    EFI_STATUS (EFIAPI *UninstallProtocolInterface)(EFI_HANDLE handle, const EFI_GUID *protocol, void *interface);
    EFI_STATUS (EFIAPI *HandleProtocol)(EFI_HANDLE handle, const EFI_GUID *protocol, void **found);
    void *Reserved, *RegisterProtocolNotify, *LocateHandle, *LocateDevicePath, *InstallConfigurationTable;
    EFI_STATUS (EFIAPI *LoadImage)(uint8_t policy, EFI_HANDLE parent, DEVICE_PATH *path, void *source, uintptr_t size,
                                   EFI_HANDLE *image);
    EFI_STATUS (EFIAPI *StartImage)(EFI_HANDLE image, uintptr_t *size, CHAR16 **data);
    void *Exit;
    EFI_STATUS (EFIAPI *UnloadImage)(EFI_HANDLE image);
    void *ExitBootServices, *GetNextMonotonicCount;
    EFI_STATUS (EFIAPI *Stall)(uintptr_t microseconds);
    EFI_STATUS (EFIAPI *SetWatchdogTimer)(uintptr_t seconds, uint64_t code, uintptr_t size, CHAR16 *data);
    EFI_STATUS (EFIAPI *ConnectController)(EFI_HANDLE handle, EFI_HANDLE *driver, DEVICE_PATH *rest, uint8_t recursive);
    EFI_STATUS (EFIAPI *DisconnectController)(EFI_HANDLE handle, EFI_HANDLE driver, EFI_HANDLE child);
    void *OpenProtocol, *CloseProtocol, *OpenProtocolInformation;
    void *ProtocolsPerHandle;
    EFI_STATUS (EFIAPI *LocateHandleBuffer)(int type, const EFI_GUID *protocol, void *key, uintptr_t *count, EFI_HANDLE **found);
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
    SIMPLE_TEXT_INPUT *ConIn;
    EFI_HANDLE ConsoleOutHandle;
    SIMPLE_TEXT_OUTPUT *ConOut;
    EFI_HANDLE StandardErrorHandle;
    void *StdErr;
    EFI_RUNTIME_SERVICES *RuntimeServices;
    EFI_BOOT_SERVICES *BootServices;
} EFI_SYSTEM_TABLE;
