; The FAT32 record: boot sector of a FAT32 volume and its further code in reserved sector 12 and up.
;
; Entered at 0000:7C00 with DL = drive. Finds BOOTMGR in the root folder, loads all of it to 2000:0000 along its
; cluster chain, and enters it there with DL = drive and the boot sector still at 0000:7C00.
; The first 512 bytes of this binary go to sector 0 (the BPB is filled in), the rest to sector 12.

        bits    16
        org     0x7C00

FURTHER_CODE_SECTOR equ 12
MARK                equ "LKF1"
LOADER              equ 0x20000         ; linear address that the loader expects
MOST_AT_ONCE        equ 64              ; sectors; some firmware takes no more than 127

        jmp     short start
        nop
        times   0x5A - ($ - $$) db 0    ; BPB: fatgen103, "Boot Sector and BPB Structure"
%include "first_sector.inc"

; ---- further code, from reserved sector 12 -------------------------------------------------------------------------

go_on:
        call    fat32_mount
        mov     si, text_sectors
        jc      stop
        mov     si, name_loader
        mov     di, v_name
        mov     cx, 11
        rep     movsb
        mov     eax, [BPB_RootClus]
        call    fat32_find
        jnc     .found
        mov     si, text_read
        test    al, al
        jnz     stop
.missing:
        mov     si, text_missing
        jmp     stop
.found:
        test    byte [di + DIR_Attr], ATTR_DIRECTORY
        jnz     .missing
        int     0x12                    ; KiB of low memory: what lies above belongs to the firmware
        movzx   eax, ax
        shl     eax, 10
        sub     eax, LOADER
        mov     si, text_large
        mov     ecx, [di + DIR_FileSize]
        cmp     ecx, eax
        ja      stop
        mov     si, text_damaged
        test    ecx, ecx
        jz      .stop
        add     ecx, 511
        shr     ecx, 9                  ; sectors still to load
        call    entry_cluster
        mov     edi, LOADER

; EAX = cluster, ECX = sectors left, EDI = linear address to load to
.cluster:
        mov     [v_cluster], eax
        call    is_cluster
        mov     si, text_damaged
        jc      .stop
        call    cluster_sector
        movzx   edx, byte [BPB_SecPerClus]
        cmp     edx, ecx
        jbe     .piece
        mov     edx, ecx

; EAX = sector, EDX = sectors left in this cluster: a piece ends at 64 KiB of memory, too
.piece:
        mov     ebx, edi
        and     ebx, 0xFFFF
        neg     ebx
        add     ebx, 0x10000
        shr     ebx, 9
        cmp     ebx, MOST_AT_ONCE
        jbe     .within
        mov     ebx, MOST_AT_ONCE
.within:
        cmp     ebx, edx
        jbe     .read
        mov     ebx, edx
.read:
        push    ecx
        push    ebx
        mov     cx, bx
        mov     ebx, edi
        shr     ebx, 4
        mov     es, bx
        xor     bx, bx
        call    read_sectors
        pop     ebx
        pop     ecx
        mov     si, text_read
        jc      .stop
        add     eax, ebx
        sub     ecx, ebx
        sub     edx, ebx
        shl     ebx, 9
        add     edi, ebx
        test    edx, edx
        jnz     .piece
        test    ecx, ecx
        jz      .enter
        mov     eax, [v_cluster]
        call    next_cluster
        jnc     .cluster
        mov     si, text_read
.stop:
        jmp     stop
.enter:
        mov     dl, [v_drive]
        jmp     (LOADER >> 4):0

%include "fat32.inc"

name_loader:  db "BOOTMGR    "
text_sectors: db "this volume's sectors are not of 512 bytes.", 0
text_missing: db "BOOTMGR is not in the root folder.", 0
text_large:   db "BOOTMGR is too large for this machine's low memory.", 0
text_damaged: db "BOOTMGR is damaged: its clusters end too early.", 0
further_end:
        times   512 - (($ - further) & 511) db 0
