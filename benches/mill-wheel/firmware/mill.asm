; Mill wheel: starts the controller, and shows what the interrupt has counted.
        list    p=16f88
        include "p16f88.inc"
        __config _CONFIG1, _INTRC_IO & _WDT_OFF & _LVP_OFF & _MCLR_ON & _PWRTE_OFF

full    equ     .10             ; turns that fill the sacks

        extern  turns, count_tick, count_begin

shared  udata_shr
keep_w  res     1
keep_s  res     1
keep_p  res     1

reset   code    0
        pagesel start
        goto    start

handler code    4
        movwf   keep_w
        swapf   STATUS, w
        movwf   keep_s
        movf    PCLATH, w
        movwf   keep_p
        clrf    STATUS
        clrf    PCLATH
        pagesel count_tick
        btfsc   INTCON, TMR0IF
        call    count_tick
        movf    keep_p, w
        movwf   PCLATH
        swapf   keep_s, w
        movwf   STATUS
        swapf   keep_w, f
        swapf   keep_w, w
        retfie

main    code
start   banksel OSCCON
        movlw   0x60            ; 4 MHz
        movwf   OSCCON
        movlw   0x42            ; pull-ups on, timer 0 by instruction cycles, through 8
        movwf   OPTION_REG
        movlw   0xF0
        movwf   TRISA
        movlw   0xF9
        movwf   TRISB
        banksel ANSEL
        clrf    ANSEL
        banksel PORTA
        clrf    PORTA
        clrf    PORTB
        call    count_begin
        movlw   1 << GIE | 1 << TMR0IE
        movwf   INTCON
show    movf    turns, w
        andlw   0x0F
        movwf   PORTA
        movlw   full
        subwf   turns, w
        btfsc   STATUS, C
        bsf     PORTB, 1
        goto    show
        end
