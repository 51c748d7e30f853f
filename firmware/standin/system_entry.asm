; The front of the stand-in for a boot manager under BIOS (system_bios.c): from 2000:0000 in real mode to 32 bits, and back
; for every call of the firmware. It is 1024 bytes long; what is compiled begins behind it.

        bits    16
        org     0

FLAT    equ     0x20000                 ; where this lies
MAIN    equ     FLAT + 1024
STACK   equ     0x9E000
REAL_STACK equ  0x7000

        jmp     near start
        times   8 - ($ - $$) db 0
        dd      FLAT + call_firmware    ; offset 8
drive:  dd      0                       ; offset 12

start:
        cli
        cld
        mov     ax, cs
        mov     ds, ax
        mov     [drive], dl
        xor     ax, ax
        mov     ss, ax
        mov     sp, REAL_STACK
        in      al, 0x92                ; addresses beyond 1 MiB
        or      al, 2
        and     al, 0xFE
        out     0x92, al
        call    ready                   ; and where machines are too old for that: by the keyboard's controller
        mov     al, 0xD1
        out     0x64, al
        call    ready
        mov     al, 0xDF
        out     0x60, al
        call    ready
        lgdt    [table_at]
        mov     eax, cr0
        or      al, 1
        mov     cr0, eax
        jmp     dword 0x08:FLAT + flat

; Until the controller takes a byte.
ready:
        in      al, 0x64
        test    al, 2
        jnz     ready
        ret

        bits    32
flat:
        mov     ax, 0x10
        mov     ds, ax
        mov     es, ax
        mov     ss, ax
        mov     esp, STACK
        call    dword [FLAT + to_main]
        jmp     $

; call_firmware(registers): calls the interrupt with eax, ebx, ecx, edx, and DS:SI at the packet behind them.
call_firmware:
        pushad
        mov     esi, [esp + 36]
        mov     edi, FLAT + registers
        mov     ecx, REGISTERS
        rep movsd
        mov     [FLAT + kept], esp
        jmp     0x18:sixteen

        bits    16
sixteen:
        mov     ax, 0x20
        mov     ds, ax
        mov     es, ax
        mov     ss, ax
        mov     eax, cr0
        and     al, 0xFE
        mov     cr0, eax
        jmp     0x2000:real
real:
        mov     ax, cs
        mov     ds, ax
        xor     ax, ax
        mov     ss, ax
        mov     es, ax
        mov     sp, REAL_STACK
        mov     al, [registers]
        mov     [.number + 1], al
        jmp     short .fetch            ; the processor may have read the number already
.fetch:
        mov     eax, [registers + 4]
        mov     ebx, [registers + 8]
        mov     ecx, [registers + 12]
        mov     edx, [registers + 16]
        mov     si, registers + 24
        sti
.number:
        int     0x13
        cli
        cld
        push    cs
        pop     ds
        mov     [registers + 4], eax
        pushfd
        pop     dword [registers + 20]
        mov     eax, cr0
        or      al, 1
        mov     cr0, eax
        jmp     dword 0x08:FLAT + back

        bits    32
back:
        mov     ax, 0x10
        mov     ds, ax
        mov     es, ax
        mov     ss, ax
        mov     esp, [FLAT + kept]
        mov     edi, [esp + 36]
        mov     esi, FLAT + registers
        mov     ecx, REGISTERS
        rep movsd
        popad
        ret

        align   8
table:  dq      0
        dq      0x00CF9A000000FFFF      ; 08h: code, 32 bits, from 0
        dq      0x00CF92000000FFFF      ; 10h: data, likewise
        dq      0x00009A020000FFFF      ; 18h: code, 16 bits, from 20000h
        dq      0x000092000000FFFF      ; 20h: data, 16 bits, from 0
table_at:
        dw      table_at - table - 1
        dd      FLAT + table
to_main: dd     MAIN
kept:   dd      0
registers:
        times   10 dd 0                 ; interrupt, eax, ebx, ecx, edx, flags, packet of 16 bytes
REGISTERS equ   10
        times   1024 - ($ - $$) db 0
