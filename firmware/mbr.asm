; The MBR record: sector 0 of a drive. Finds the one active partition and starts its boot sector.
;
; Entered at 0000:7C00 with DL = drive. The partition's boot sector is entered at 0000:7C00 with DL = drive and
; DS:SI at the partition entry. Table layout: UEFI 2.10, 5.2.1.

%include "entry.inc"

        bits    16
        org     0x0600

LOADED  equ     0x7C00
TABLE   equ     0x0600 + 446

start:
        ENTRY
        mov     si, LOADED              ; make room for the boot sector
        mov     di, 0x0600
        mov     cx, 256
        rep     movsw
        jmp     0:moved
moved:
        mov     [v_drive], dl
        mov     di, TABLE
        xor     bp, bp                  ; the active entry
        mov     dx, 4
.scan:
        test    byte [di], 0x80
        jz      .next
        test    bp, bp
        mov     bp, di
        jnz     .not_one
.next:
        add     di, 16
        dec     dx
        jnz     .scan
        test    bp, bp
.not_one:
        mov     si, text_active
        jz      stop
        test    dl, dl                  ; left early: a second one was met
        jne     stop

        mov     eax, [bp + 8]           ; first sector of the partition
        mov     cx, 1
        mov     bx, LOADED
        call    read_sectors
        mov     si, text_read
        jc      stop
        mov     si, text_empty
        cmp     word [LOADED + 510], 0xAA55
        jne     stop
        mov     si, bp
        mov     dl, [v_drive]
        jmp     0:LOADED

%include "disk.inc"
%include "screen.inc"

text_active: db "not one active partition.", 0
text_read:   db "cannot read drive.", 0
text_empty:  db "no boot sector.", 0

        times   440 - ($ - $$) db 0     ; fails when the record has grown too long
