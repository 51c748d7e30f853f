; The NTFS record: boot sector of an NTFS volume and its further code, the next sectors of $Boot.
;
; Entered at 0000:7C00 with DL = drive. Finds BOOTMGR through the root folder's index, loads all of it to 2000:0000 along
; its run list, and enters it there with DL = drive and the boot sector still at 0000:7C00.

        bits    16
        org     0x7C00

FURTHER_CODE_SECTOR equ 1
MARK                equ "LKN1"
LOADER              equ 0x20000         ; linear address that the loader expects
MOST_AT_ONCE        equ 64              ; sectors; some firmware takes no more than 127

        jmp     short start
        nop
        times   0x54 - ($ - $$) db 0    ; the volume's measures are filled in
%include "first_sector.inc"

; ---- further code, from the volume's second sector -----------------------------------------------------------------

go_on:
        call    ntfs_mount
        mov     si, text_mft
        jc      stop
        mov     eax, ROOT_FOLDER
        call    read_record
        mov     si, text_root
        jc      stop
        mov     si, name_loader
        mov     di, v_wanted
        mov     cx, 8
        rep     movsb
        call    ntfs_find
        jnc     .found
        mov     si, text_root
        test    al, al
        jnz     stop
.missing:
        mov     si, text_missing
        jmp     stop
.found:
        call    read_record
        mov     si, text_damaged
        jc      .stop
        test    byte [RECORD_BUFFER + FILE_Flags], FILE_FOLDER
        jnz     .missing
        mov     si, RECORD_BUFFER
        mov     eax, ATTRIBUTE_LIST
        call    find_attribute
        mov     si, text_kind
        jnc     .stop
        mov     si, RECORD_BUFFER
        mov     eax, DATA
        call    find_attribute
        mov     si, text_damaged
        jc      .stop
        mov     si, text_kind
        cmp     word [bx + ATTR_Flags], 0
        jne     .stop
        cmp     byte [bx + ATTR_FormCode], 0
        je      .resident
        int     0x12                    ; KiB of low memory: what lies above belongs to the firmware
        movzx   eax, ax
        shl     eax, 10
        sub     eax, LOADER
        mov     si, text_large
        cmp     dword [bx + ATTR_FileSize + 4], 0
        jne     .stop
        mov     ecx, [bx + ATTR_FileSize]
        cmp     ecx, eax
        ja      .stop
        mov     si, text_damaged
        jecxz   .stop
        add     ecx, 511
        shr     ecx, 9
        xor     eax, eax
        mov     edi, LOADER
        call    read_stream
        mov     si, text_damaged
        jc      .stop
.enter:
        mov     dl, [v_drive]
        jmp     (LOADER >> 4):0
.resident:                              ; a file this small stands in its record
        mov     ecx, [bx + ATTR_ValueLength]
        mov     si, text_damaged
        cmp     ecx, BUFFER_SIZE
        jae     .stop
        jecxz   .stop
        mov     si, bx
        add     si, [bx + ATTR_ValueOffset]
        mov     ax, LOADER >> 4
        mov     es, ax
        xor     di, di
        rep     movsb
        jmp     .enter
.stop:
        jmp     stop

%include "ntfs.inc"

name_loader:  db "BOOTMGR", 0
text_mft:     db "this volume's file table cannot be read.", 0
text_root:    db "the root folder cannot be read.", 0
text_missing: db "BOOTMGR is not in the root folder.", 0
text_kind:    db "BOOTMGR is compressed or too scattered; copy it onto the drive again.", 0
text_large:   db "BOOTMGR is too large for this machine's low memory.", 0
text_damaged: db "BOOTMGR is damaged: it cannot be read to its end.", 0
further_end:
        times   512 - (($ - further) & 511) db 0
%if $ - $$ > 8192
%error "the record is larger than $Boot"
%endif
