// ATmega32 (datasheet 2503: "Register Summary", "Interrupts", "Alternate Port Functions", "Pin Configurations"). An older register layout: flags and
// masks of all timers share TIFR and TIMSK, sleep modes lie in MCUCR, UBRRH and UCSRC share an address.
#include "chip/avr/chip_tables.h"

namespace bramix::chip::avr {

namespace {

using enum RegisterKind;

constexpr std::array kRegisters{
    RegisterRow{"TWBR", 0x20, ""},
    RegisterRow{"TWSR", 0x21, "TWS7 TWS6 TWS5 TWS4 TWS3 - TWPS1 TWPS0"},
    RegisterRow{"TWAR", 0x22, "TWA6 TWA5 TWA4 TWA3 TWA2 TWA1 TWA0 TWGCE"},
    RegisterRow{"TWDR", 0x23, ""},
    RegisterRow{"ADCL", 0x24, ""},
    RegisterRow{"ADCH", 0x25, ""},
    RegisterRow{"ADCSRA", 0x26, "ADEN ADSC ADATE ADIF ADIE ADPS2 ADPS1 ADPS0"},
    RegisterRow{"ADMUX", 0x27, "REFS1 REFS0 ADLAR MUX4 MUX3 MUX2 MUX1 MUX0"},
    RegisterRow{"ACSR", 0x28, "ACD ACBG ACO ACI ACIE ACIC ACIS1 ACIS0"},
    RegisterRow{"UBRRL", 0x29, ""},
    RegisterRow{"UCSRB", 0x2A, "RXCIE TXCIE UDRIE RXEN TXEN UCSZ2 RXB8 TXB8"},
    RegisterRow{"UCSRA", 0x2B, "RXC TXC UDRE FE DOR PE U2X MPCM"},
    RegisterRow{"UDR", 0x2C, ""},
    RegisterRow{"SPCR", 0x2D, "SPIE SPE DORD MSTR CPOL CPHA SPR1 SPR0"},
    RegisterRow{"SPSR", 0x2E, "SPIF WCOL - - - - - SPI2X"},
    RegisterRow{"SPDR", 0x2F, ""},
    RegisterRow{"PIND", 0x30, "PIND7 PIND6 PIND5 PIND4 PIND3 PIND2 PIND1 PIND0", flags},
    RegisterRow{"DDRD", 0x31, "DDD7 DDD6 DDD5 DDD4 DDD3 DDD2 DDD1 DDD0"},
    RegisterRow{"PORTD", 0x32, "PORTD7 PORTD6 PORTD5 PORTD4 PORTD3 PORTD2 PORTD1 PORTD0"},
    RegisterRow{"PINC", 0x33, "PINC7 PINC6 PINC5 PINC4 PINC3 PINC2 PINC1 PINC0", flags},
    RegisterRow{"DDRC", 0x34, "DDC7 DDC6 DDC5 DDC4 DDC3 DDC2 DDC1 DDC0"},
    RegisterRow{"PORTC", 0x35, "PORTC7 PORTC6 PORTC5 PORTC4 PORTC3 PORTC2 PORTC1 PORTC0"},
    RegisterRow{"PINB", 0x36, "PINB7 PINB6 PINB5 PINB4 PINB3 PINB2 PINB1 PINB0", flags},
    RegisterRow{"DDRB", 0x37, "DDB7 DDB6 DDB5 DDB4 DDB3 DDB2 DDB1 DDB0"},
    RegisterRow{"PORTB", 0x38, "PORTB7 PORTB6 PORTB5 PORTB4 PORTB3 PORTB2 PORTB1 PORTB0"},
    RegisterRow{"PINA", 0x39, "PINA7 PINA6 PINA5 PINA4 PINA3 PINA2 PINA1 PINA0", flags},
    RegisterRow{"DDRA", 0x3A, "DDA7 DDA6 DDA5 DDA4 DDA3 DDA2 DDA1 DDA0"},
    RegisterRow{"PORTA", 0x3B, "PORTA7 PORTA6 PORTA5 PORTA4 PORTA3 PORTA2 PORTA1 PORTA0"},
    RegisterRow{"EECR", 0x3C, "- - - - EERIE EEMWE EEWE EERE"},
    RegisterRow{"EEDR", 0x3D, ""},
    RegisterRow{"EEARL", 0x3E, ""},
    RegisterRow{"EEARH", 0x3F, "- - - - - - EEAR9 EEAR8"},
    RegisterRow{"UCSRC", 0x40, "URSEL UMSEL UPM1 UPM0 USBS UCSZ1 UCSZ0 UCPOL"},
    RegisterRow{"WDTCR", 0x41, "- - - WDTOE WDE WDP2 WDP1 WDP0"},
    RegisterRow{"ASSR", 0x42, "- - - - AS2 TCN2UB OCR2UB TCR2UB"},
    RegisterRow{"OCR2", 0x43, ""},
    RegisterRow{"TCNT2", 0x44, ""},
    RegisterRow{"TCCR2", 0x45, "FOC2 WGM20 COM21 COM20 WGM21 CS22 CS21 CS20"},
    RegisterRow{"ICR1L", 0x46, ""},
    RegisterRow{"ICR1H", 0x47, ""},
    RegisterRow{"OCR1BL", 0x48, ""},
    RegisterRow{"OCR1BH", 0x49, ""},
    RegisterRow{"OCR1AL", 0x4A, ""},
    RegisterRow{"OCR1AH", 0x4B, ""},
    RegisterRow{"TCNT1L", 0x4C, ""},
    RegisterRow{"TCNT1H", 0x4D, ""},
    RegisterRow{"TCCR1B", 0x4E, "ICNC1 ICES1 - WGM13 WGM12 CS12 CS11 CS10"},
    RegisterRow{"TCCR1A", 0x4F, "COM1A1 COM1A0 COM1B1 COM1B0 FOC1A FOC1B WGM11 WGM10"},
    RegisterRow{"SFIOR", 0x50, "ADTS2 ADTS1 ADTS0 - ACME PUD PSR2 PSR10"},
    RegisterRow{"OSCCAL", 0x51, ""},
    RegisterRow{"TCNT0", 0x52, ""},
    RegisterRow{"TCCR0", 0x53, "FOC0 WGM00 COM01 COM00 WGM01 CS02 CS01 CS00"},
    RegisterRow{"MCUCSR", 0x54, "JTD ISC2 - JTRF WDRF BORF EXTRF PORF"},
    RegisterRow{"MCUCR", 0x55, "SE SM2 SM1 SM0 ISC11 ISC10 ISC01 ISC00"},
    RegisterRow{"TWCR", 0x56, "TWINT TWEA TWSTA TWSTO TWWC TWEN - TWIE"},
    RegisterRow{"SPMCR", 0x57, "SPMIE RWWSB - RWWSRE BLBSET PGWRT PGERS SPMEN"},
    RegisterRow{"TIFR", 0x58, "OCF2 TOV2 ICF1 OCF1A OCF1B TOV1 OCF0 TOV0", flags},
    RegisterRow{"TIMSK", 0x59, "OCIE2 TOIE2 TICIE1 OCIE1A OCIE1B TOIE1 OCIE0 TOIE0"},
    RegisterRow{"GIFR", 0x5A, "INTF1 INTF0 INTF2 - - - - -", flags},
    RegisterRow{"GICR", 0x5B, "INT1 INT0 INT2 - - - IVSEL IVCE"},
    RegisterRow{"OCR0", 0x5C, ""},
    RegisterRow{"SPL", 0x5D, ""},
    RegisterRow{"SPH", 0x5E, ""},
    RegisterRow{"SREG", 0x5F, "I T H S V N Z C"},
};

constexpr std::array kVectors{
    VectorRow{"RESET"},
    VectorRow{"INT0", Sleep::powerDown},
    VectorRow{"INT1", Sleep::powerDown},
    VectorRow{"INT2", Sleep::powerDown},
    VectorRow{"TIMER2_COMP", Sleep::powerSave},
    VectorRow{"TIMER2_OVF", Sleep::powerSave},
    VectorRow{"TIMER1_CAPT"},
    VectorRow{"TIMER1_COMPA"},
    VectorRow{"TIMER1_COMPB"},
    VectorRow{"TIMER1_OVF"},
    VectorRow{"TIMER0_COMP"},
    VectorRow{"TIMER0_OVF"},
    VectorRow{"SPI_STC"},
    VectorRow{"USART_RXC"},
    VectorRow{"USART_UDRE"},
    VectorRow{"USART_TXC"},
    VectorRow{"ADC", Sleep::noiseReduction},
    VectorRow{"EE_RDY", Sleep::noiseReduction},
    VectorRow{"ANA_COMP"},
    VectorRow{"TWI", Sleep::powerDown},
    VectorRow{"SPM_RDY", Sleep::noiseReduction},
};

constexpr std::array kPorts{PortRow{'A'}, PortRow{'B'}, PortRow{'C'}, PortRow{'D'}};

constexpr std::array kTimers{TimerRow{'0', 8}, TimerRow{'1', 16}, TimerRow{'2', 8, Prescale::asynchronous}};

constexpr std::array kUsarts{UsartRow{"uart0", ""}};

// Table 84, by MUX4:0.
constexpr std::array kAdcChannels = differentialChannels<32>();

constexpr std::array kFuses{
    FuseRow{"CKSEL", 0, 0, 4, "clock source"},
    FuseRow{"SUT", 0, 4, 2, "start-up time"},
    FuseRow{"BODEN", 0, 6, 1, "brown-out detection"},
    FuseRow{"BODLEVEL", 0, 7, 1, "brown-out level"},
    FuseRow{"BOOTRST", 1, 0, 1, "reset into the boot section"},
    FuseRow{"BOOTSZ", 1, 1, 2, "size of the boot section"},
    FuseRow{"EESAVE", 1, 3, 1, "keep the EEPROM at chip erase"},
    FuseRow{"CKOPT", 1, 4, 1, "oscillator drive"},
    FuseRow{"SPIEN", 1, 5, 1, "serial programming"},
    FuseRow{"JTAGEN", 1, 6, 1, "JTAG has PC2 to PC5"},
    FuseRow{"OCDEN", 1, 7, 1, "on-chip debugging"},
    FuseRow{"LB", 3, 0, 2, "memory lock"},
    FuseRow{"BLB0", 3, 2, 2, "lock of the application section"},
    FuseRow{"BLB1", 3, 4, 2, "lock of the boot section"},
};

constexpr std::array kPackage{
    PackagePin{1, "PB0", "XCK T0"},
    PackagePin{2, "PB1", "T1"},
    PackagePin{3, "PB2", "INT2 AIN0"},
    PackagePin{4, "PB3", "OC0 AIN1"},
    PackagePin{5, "PB4", "SS"},
    PackagePin{6, "PB5", "MOSI"},
    PackagePin{7, "PB6", "MISO"},
    PackagePin{8, "PB7", "SCK"},
    PackagePin{9, "RESET", "reset"},
    PackagePin{10, "VCC", "supply"},
    PackagePin{11, "GND", "ground"},
    PackagePin{12, "XTAL2", "crystal"},
    PackagePin{13, "XTAL1", "crystal"},
    PackagePin{14, "PD0", "RXD"},
    PackagePin{15, "PD1", "TXD"},
    PackagePin{16, "PD2", "INT0"},
    PackagePin{17, "PD3", "INT1"},
    PackagePin{18, "PD4", "OC1B"},
    PackagePin{19, "PD5", "OC1A"},
    PackagePin{20, "PD6", "ICP1"},
    PackagePin{21, "PD7", "OC2"},
    PackagePin{22, "PC0", "SCL"},
    PackagePin{23, "PC1", "SDA"},
    PackagePin{24, "PC2", "TCK"},
    PackagePin{25, "PC3", "TMS"},
    PackagePin{26, "PC4", "TDO"},
    PackagePin{27, "PC5", "TDI"},
    PackagePin{28, "PC6", "TOSC1"},
    PackagePin{29, "PC7", "TOSC2"},
    PackagePin{30, "AVCC", "analog supply"},
    PackagePin{31, "GND2", "ground"},
    PackagePin{32, "AREF", "analog reference"},
    PackagePin{33, "PA7", "ADC7"},
    PackagePin{34, "PA6", "ADC6"},
    PackagePin{35, "PA5", "ADC5"},
    PackagePin{36, "PA4", "ADC4"},
    PackagePin{37, "PA3", "ADC3"},
    PackagePin{38, "PA2", "ADC2"},
    PackagePin{39, "PA1", "ADC1"},
    PackagePin{40, "PA0", "ADC0"},
};

}  // namespace

const ChipTable& atmega32()
{
    using enum ClockSource;
    static const ChipTable table{
        .id = "atmega32",
        .title = "ATmega32",
        .about = "8-bit AVR, 32 KB flash, 2 KB SRAM, 32 I/O lines, 40-pin",
        .signature = {0x1E, 0x95, 0x02},
        .flashBytes = 32 * 1024,
        .pageBytes = 128,
        .eepromBytes = 1024,
        .bootBytes = 4096,
        .core = {.flashWords = 16 * 1024, .ramStart = 0x60, .ramEnd = 0x85F},
        .usualHz = 16'000'000,
        .highestVolts = 5.5,
        .supply = {.activeAmps = 14.7e-3, .idleAmps = 4.7e-3, .downAmps = 0.5e-6, .watchdogAmps = 9.5e-6},  // 1.1 and 0.35 mA at 1 MHz and 3 V
        .ioEnd = 0x60,
        .registers = kRegisters,
        .vectors = kVectors,
        .vectorWords = 2,
        .ports = kPorts,
        .timers = kTimers,
        .usarts = kUsarts,
        .adcChannels = kAdcChannels,
        .references = {Reference::aref, Reference::avcc, Reference::reserved, Reference::volts256},
        .bandGapVolts = 1.22,
        .fuses = kFuses,
        .fuseDefaults = {0xE1, 0x99, 0xFF, 0xFF},
        .clockSources = {ClockSource::external, rc1, rc2, rc4, rc8, externalRc, externalRc, externalRc, externalRc, watch, crystal, crystal, crystal, crystal, crystal, crystal},
        .brownOutVolts = {4.0, 2.7},
        .bitwiseFlags = false,
        .oldWatchdog = true,
        .jtagPins = 0x3C,
        .jtagPort = 'C',
        .eepromMillis = 8.448,
        .package = kPackage,
    };
    return table;
}

}  // namespace bramix::chip::avr
