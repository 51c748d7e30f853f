; A stand-in for a BIOS boot manager, for demo drives and the lab. It keeps the real ones' contract and says what it
; found, on screen and on the first serial port:
;   - entered at 2000:0000 with DL = drive and the volume's boot sector at 0000:7C00;
;   - its whole body lies in memory, however long (a CRC-32 over it is checked);
;   - it finds its volume through that boot sector and reads boot/bcd and sources/boot.wim by INT 13h.
; Whoever builds a source fills in the header (sizes and CRC-32 sums) and lengthens the file to the size wanted.

        bits    16
        org     0

        jmp     short start
        times   4 - ($ - $$) db 0
        db      "TIDEWELL BIOS 1", 0
header_size:    dd 0                    ; offset 20: bytes of this file
header_sum:     dd 0                    ; 24: CRC-32 of everything from BODY on
header_bcd:     dd 0, 0                 ; 28: size and CRC-32 of boot/bcd
header_wim:     dd 0, 0                 ; 36: size and CRC-32 of sources/boot.wim
        times   64 - ($ - $$) db 0
BODY    equ     64

MOST_AT_ONCE equ 64                     ; sectors
BUFFER  equ     0x1000                  ; segment: 64 KiB for reading
v_sector equ    0x7B58                  ; dword: next sector of the file
v_attribute equ 0x7B5C                  ; word: where its clusters are told

start:
        xor     ax, ax
        mov     ds, ax
        mov     ss, ax
        mov     sp, STACK
        sti
        cld
        mov     [v_drive], dl
        call    make_table
        mov     si, text_hello
        call    say

        or      dword [v_sum], -1       ; the body, segment by segment
        mov     ecx, [cs:header_size]
        sub     ecx, BODY
        mov     edi, 0x20000 + BODY
.segment:
        mov     eax, edi
        shr     eax, 4
        mov     es, ax
        mov     bx, di
        and     bx, 15
        mov     edx, 0x8000
        cmp     ecx, edx
        ja      .part
        mov     edx, ecx
.part:
        add     edi, edx
        sub     ecx, edx
        push    ecx
        mov     cx, dx
        call    add_sum
        pop     ecx
        test    ecx, ecx
        jnz     .segment
        mov     eax, [v_sum]
        not     eax
        cmp     eax, [cs:header_sum]
        mov     si, text_body
        jne     fail
        call    say_ok

        cmp     dword [BOOT + 3], "NTFS"
        je      on_ntfs
        call    fat32_mount
        mov     si, text_volume
        jc      fail
        mov     si, name_boot
        mov     di, name_bcd
        mov     bp, header_bcd
        call    check_file
        mov     si, text_bcd
        jc      fail
        call    say_ok
        mov     si, name_sources
        mov     di, name_wim
        mov     bp, header_wim
        call    check_file
        mov     si, text_wim
        jc      fail
        jmp     done
on_ntfs:
        xor     ax, ax
        mov     es, ax
        call    ntfs_mount
        mov     si, text_volume
        jc      fail
        mov     si, text_ntfs
        call    say
        mov     si, path_boot
        mov     di, path_bcd
        mov     bp, header_bcd
        call    check_file_on_ntfs
        mov     si, text_bcd
        jc      fail
        call    say_ok
        mov     si, path_sources
        mov     di, path_wim
        mov     bp, header_wim
        call    check_file_on_ntfs
        mov     si, text_wim
        jc      fail
done:
        call    say_ok
        mov     si, text_done
        call    say
        mov     al, 0x10                ; ends an emulator that listens on this port
        out     0xF4, al
.halt:
        hlt
        jmp     .halt

fail:
        call    say
        mov     si, text_fail
        call    say
        mov     al, 0x20
        out     0xF4, al
.halt:
        hlt
        jmp     .halt

; check_file: SI = folder's short name, DI = file's, BP = header field, all in CS. Carry set when anything differs.
check_file:
        push    di
        call    set_name
        mov     eax, [BPB_RootClus]
        call    fat32_find
        pop     si
        jc      .end
        call    entry_cluster
        push    eax
        call    set_name
        pop     eax
        call    fat32_find
        jc      .end
        mov     ecx, [di + DIR_FileSize]
        cmp     ecx, [cs:bp]
        jne     .differs
        mov     [v_size], ecx
        or      dword [v_sum], -1
        call    entry_cluster
.cluster:
        mov     [v_cluster], eax
        call    is_cluster
        jc      .end
        call    cluster_sector
        movzx   cx, byte [BPB_SecPerClus]
        mov     bx, BUFFER
        mov     es, bx
        xor     bx, bx
        call    read_sectors
        jc      .end
        movzx   ecx, cx
        shl     ecx, 9
        cmp     ecx, [v_size]
        jbe     .sum
        mov     ecx, [v_size]
.sum:
        sub     [v_size], ecx
        call    add_sum
        mov     eax, [v_cluster]
        cmp     dword [v_size], 0
        je      .whole
        call    next_cluster
        jnc     .cluster
        ret
.whole:
        mov     eax, [v_sum]
        not     eax
        cmp     eax, [cs:bp + 4]
        je      .end
.differs:
        stc
.end:
        ret

; check_file_on_ntfs: SI = folder's name, DI = file's, each ended by 0, BP = header field, all in CS.
check_file_on_ntfs:
        push    di
        mov     eax, ROOT_FOLDER
        call    find_below
        pop     si
        jc      .end
        call    find_below
        jc      .end
        call    read_record
        jc      .end
        mov     si, RECORD_BUFFER
        mov     eax, DATA
        call    find_attribute
        jc      .end
        cmp     byte [bx + ATTR_FormCode], 1
        jne     .differs
        mov     [v_attribute], bx
        mov     ecx, [bx + ATTR_FileSize]
        cmp     ecx, [cs:bp]
        jne     .differs
        mov     [v_size], ecx
        or      dword [v_sum], -1
        and     dword [v_sector], 0
.piece:
        mov     ecx, [v_size]
        cmp     ecx, MOST_AT_ONCE * 512
        jbe     .bytes
        mov     ecx, MOST_AT_ONCE * 512
.bytes:
        push    ecx
        add     ecx, 511
        shr     ecx, 9
        mov     eax, [v_sector]
        add     [v_sector], ecx
        mov     bx, [v_attribute]
        mov     edi, BUFFER * 16
        call    read_stream
        pop     ecx
        jc      .end
        sub     [v_size], ecx
        mov     bx, BUFFER
        mov     es, bx
        xor     bx, bx
        call    add_sum
        mov     es, bx                  ; BX is 0
        cmp     dword [v_size], 0
        jne     .piece
        mov     eax, [v_sum]
        not     eax
        cmp     eax, [cs:bp + 4]
        je      .end
.differs:
        stc
.end:
        ret

; find_below: EAX = a folder's file number, SI = name in CS ended by 0. Returns EAX = file number; carry set when it is not there.
find_below:
        push    si
        call    read_record
        pop     si
        jc      .end
        mov     di, v_wanted
.unit:
        mov     al, [cs:si]
        mov     [di], al
        inc     si
        inc     di
        test    al, al
        jnz     .unit
        call    ntfs_find
.end:
        ret

; set_name: SI = 11 bytes in CS, copied to v_name.
set_name:
        push    cs
        pop     ds
        xor     ax, ax
        mov     es, ax
        mov     di, v_name
        mov     cx, 11
        rep     movsb
        mov     ds, ax
        ret

; make_table: the sums of all byte values for the reflected polynomial EDB88320h.
make_table:
        xor     cx, cx
.value:
        movzx   eax, cx
        mov     dl, 8
.bit:
        shr     eax, 1
        jnc     .even
        xor     eax, 0xEDB88320
.even:
        dec     dl
        jnz     .bit
        mov     bx, cx
        shl     bx, 2
        mov     [SUMS + bx], eax
        inc     cx
        cmp     cx, 256
        jb      .value
        ret

; add_sum: ES:BX = bytes, CX = how many (up to 8000h).
add_sum:
        pushad
        mov     edx, [v_sum]
.byte:
        jcxz    .end
        movzx   si, dl
        xor     al, al
        mov     al, [es:bx]
        xor     ah, ah
        xor     si, ax
        shl     si, 2
        shr     edx, 8
        xor     edx, [SUMS + si]
        inc     bx
        dec     cx
        jmp     .byte
.end:
        mov     [v_sum], edx
        popad
        ret

say_ok:
        call    say
        mov     si, text_ok
; say: SI = text in CS ending in 0, to screen and serial port.
say:
        mov     al, [cs:si]
        inc     si
        test    al, al
        jz      .end
        mov     dx, 0x3F8
        out     dx, al
        mov     ah, 0x0E
        mov     bx, 7
        int     0x10
        jmp     say
.end:
        ret

text_hello:  db "Tidewell stand-in loader, BIOS", 13, 10, 0
text_body:   db "  loader body in memory", 0
text_volume: db "  volume", 0
text_bcd:    db "  boot/bcd", 0
text_wim:    db "  sources/boot.wim", 0
text_ok:     db ": ok", 13, 10, 0
text_fail:   db ": WRONG", 13, 10, "TIDEWELL BIOS FAILED", 13, 10, 0
text_done:   db "TIDEWELL BIOS DONE", 13, 10, 0
text_ntfs:   db "  volume: NTFS", 13, 10, 0
path_boot:    db "BOOT", 0
path_bcd:     db "BCD", 0
path_sources: db "SOURCES", 0
path_wim:     db "BOOT.WIM", 0
name_boot:    db "BOOT       "
name_bcd:     db "BCD        "
name_sources: db "SOURCES    "
name_wim:     db "BOOT    WIM"

%include "bpb.inc"
%include "disk.inc"
%include "fat32.inc"
%include "ntfs.inc"
