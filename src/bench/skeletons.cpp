#include "bench/skeletons.h"

#include <algorithm>
#include <cctype>
#include <filesystem>
#include <fstream>
#include <string_view>

#include <fmt/format.h>

#include "chip/family.h"

namespace bramix::bench {

namespace {

// The pin that the board's own lamp hangs on.
std::string lampPin(const PartKind& kind)
{
    for (const PartKind::Join& join : kind.joins) {
        std::string own, inner;
        for (const std::string& pin : join.pins)
            (pin.find('.') == std::string::npos ? own : inner) = pin;
        if (inner.starts_with("lamp") && own.size() == 3 && own[0] == 'P')
            return own;
    }
    return "PB0";
}

std::string sourceInC(const std::string& name, const PartKind& kind)
{
    const std::string pin = lampPin(kind);
    return fmt::format(R"(// {0}, on a {1}. The lamp on {2} beats, and the serial line tells how often; a key that is typed comes back.
#include <avr/io.h>
#include <avr/pgmspace.h>
#include <stdio.h>
#include <util/delay.h>

static int put(char c, FILE *stream)
{{
    (void)stream;
    while (!(UCSR0A & (1 << UDRE0)))
        ;
    UDR0 = c;
    return 0;
}}

static FILE serial = FDEV_SETUP_STREAM(put, NULL, _FDEV_SETUP_WRITE);

int main(void)
{{
    UBRR0 = F_CPU / 8 / 115200 - 1;
    UCSR0A = 1 << U2X0;
    UCSR0B = (1 << TXEN0) | (1 << RXEN0);
    stdout = &serial;
    DDR{3} |= 1 << {4};

    printf_P(PSTR("{0}\r\n"));
    for (unsigned beats = 1;; ++beats) {{
        PORT{3} |= 1 << {4};
        _delay_ms(60);
        PORT{3} &= ~(1 << {4});
        _delay_ms(940);
        printf_P(PSTR("beat %u\r\n"), beats);
        if (UCSR0A & (1 << RXC0))
            printf_P(PSTR("got %c\r\n"), UDR0);
    }}
}}
)",
                       name, kind.title, pin, pin[1], pin[2]);
}

std::string makefileFor(const std::string& slug, const PartKind& kind, const char* source, const char* compiler, const char* standard)
{
    // The assembler takes no UL.
    return fmt::format("# Needs the Debian packages gcc-avr, avr-libc and make.\nFLAGS = -mmcu={0} -DF_CPU={1}{6}{5} -Os -gdwarf-4 -Wall -Wextra\n\n{2}.elf: {3} Makefile\n\t{4} $(FLAGS) -o $@ {3}\n\n"
                       "clean:\n\trm -f {2}.elf\n",
                       kind.chip->id, kind.clockHz, slug, source, compiler, standard, *standard == 0 ? "" : "UL");
}

std::string sourceInCpp(const std::string& name, const PartKind& kind)
{
    const std::string pin = lampPin(kind);
    return fmt::format(R"(// {0}, on a {1}. The lamp on {2} beats, and the serial line tells how often.
#include <avr/io.h>
#include <avr/pgmspace.h>
#include <util/delay.h>

namespace {{

class Lamp {{
public:
    Lamp() {{ DDR{3} |= kPin; }}
    void set(bool on) {{ PORT{3} = on ? PORT{3} | kPin : PORT{3} & ~kPin; }}

private:
    static constexpr unsigned char kPin = 1 << {4};
}};

class Serial {{
public:
    Serial()
    {{
        UBRR0 = F_CPU / 8 / 115200 - 1;
        UCSR0A = 1 << U2X0;
        UCSR0B = 1 << TXEN0;
    }}
    void put(char c)
    {{
        while (!(UCSR0A & (1 << UDRE0)))
            ;
        UDR0 = c;
    }}
    void text(const char *p)
    {{
        while (const char c = pgm_read_byte(p++))
            put(c);
    }}
    void number(unsigned n)
    {{
        if (n > 9)
            number(n / 10);
        put('0' + n % 10);
    }}
}};

}}  // namespace

int main()
{{
    Lamp lamp;
    Serial serial;
    serial.text(PSTR("{0}\r\n"));
    for (unsigned beats = 1;; ++beats) {{
        lamp.set(true);
        _delay_ms(60);
        lamp.set(false);
        _delay_ms(940);
        serial.text(PSTR("beat "));
        serial.number(beats);
        serial.text(PSTR("\r\n"));
    }}
}}
)",
                       name, kind.title, pin, pin[1], pin[2]);
}

std::string sourceInAssembler(const std::string& name, const PartKind& kind)
{
    const std::string pin = lampPin(kind);
    return fmt::format(R"(; {0}, on a {1}. The lamp on {2} beats, and the serial line tells so.
#define __SFR_OFFSET 0
#include <avr/io.h>

        .global main
main:   sbi     DDR{3}, {4}
        ldi     r16, F_CPU / 8 / 115200 - 1
        sts     UBRR0L, r16
        ldi     r16, 1 << U2X0
        sts     UCSR0A, r16
        ldi     r16, 1 << TXEN0
        sts     UCSR0B, r16

again:  sbi     PORT{3}, {4}
        ldi     r20, 6
        rcall   wait
        cbi     PORT{3}, {4}
        ldi     r20, 94
        rcall   wait
        ldi     r30, lo8(beat)
        ldi     r31, hi8(beat)
next:   lpm     r17, Z+
        tst     r17
        breq    again
full:   lds     r16, UCSR0A
        sbrs    r16, UDRE0
        rjmp    full
        sts     UDR0, r17
        rjmp    next

; Hundredths of a second, in r20.
wait:   ldi     r24, lo8(F_CPU / 400)
        ldi     r25, hi8(F_CPU / 400)
tick:   sbiw    r24, 1
        brne    tick
        dec     r20
        brne    wait
        ret

beat:   .asciz  "beat\r\n"
)",
                       name, kind.title, pin, pin[1], pin[2]);
}

// The number that the framework gives to a pin: "D13" is 13.
std::string frameworkNumber(const PartKind& kind, const std::string& pin)
{
    if (const PinKind* known = kind.pin(pin))
        for (const std::string& alias : known->aliases)
            if (alias.size() > 1 && alias[0] == 'D' && std::all_of(alias.begin() + 1, alias.end(), [](unsigned char c) { return std::isdigit(c) != 0; }))
                return alias.substr(1);
    return "13";
}

std::string sourceForFramework(const std::string& name, const PartKind& kind)
{
    const std::string pin = lampPin(kind);
    return fmt::format(R"(// {0}, on a {1}. The lamp on {2} beats, and the serial line tells how often; a key that is typed comes back.
const int lamp = {3};
unsigned beats = 0;

void setup() {{
  pinMode(lamp, OUTPUT);
  Serial.begin(115200);
  Serial.println(F("{0}"));
}}

void loop() {{
  digitalWrite(lamp, HIGH);
  delay(60);
  digitalWrite(lamp, LOW);
  delay(940);
  tell(++beats);
}}

void tell(unsigned count) {{
  Serial.print(F("beat "));
  Serial.println(count);
  if (Serial.available() > 0) {{
    Serial.print(F("got "));
    Serial.println(char(Serial.read()));
  }}
}}
)",
                       name, kind.title, pin, frameworkNumber(kind, pin));
}

// With places for @program@, @mcu@, @clock@, @variant@, @core@, @header@, @defines@.
constexpr std::string_view kFrameworkMakefile = R"(# Builds a program of setup() and loop(), with the core and the libraries of the Debian package arduino-core-avr; needs gcc-avr, avr-libc and make besides.
# All of this folder belongs to the program: .ino, .cpp, .c and .S. A library is found by its include: in libraries/ here or one folder up, in the folder
# LIBRARIES, or among those of the package.
PROGRAM = @program@
MCU = @mcu@
CLOCK = @clock@
VARIANT = @variant@
CORE ?= @core@
CORE_SOURCES := $(firstword $(dir $(wildcard $(CORE)/cores/*/main.cpp)))
LIBRARIES ?= $(HOME)/libraries

ifeq ($(CORE_SOURCES),)
$(error $(CORE) is not there: install the Debian package arduino-core-avr)
endif

SKETCHES := $(wildcard *.ino)
OWN := $(wildcard *.cpp *.c *.S)
FOLDERS := libraries ../libraries $(LIBRARIES) $(CORE)/libraries
HASH := \#
includes = $(sort $(shell sed -n 's/^[[:space:]]*$(HASH)[[:space:]]*include[[:space:]]*[<"]\([A-Za-z0-9_]*\)\.h[>"].*/\1/p' $(1) /dev/null))
library = $(firstword $(foreach folder,$(FOLDERS),$(wildcard $(folder)/$(1)/src/$(1).h $(folder)/$(1)/$(1).h)))
USED := $(call includes,$(SKETCHES) $(wildcard *.cpp *.c *.h))
FOUND := $(dir $(foreach name,$(USED),$(call library,$(name))))
# What the libraries themselves include.
BEHIND := $(call includes,$(wildcard $(addsuffix *.h,$(FOUND)) $(addsuffix *.cpp,$(FOUND))))
LIBS := $(sort $(FOUND) $(dir $(foreach name,$(BEHIND),$(call library,$(name)))))
PLACES := . $(CORE_SOURCES) $(CORE)/variants/$(VARIANT) /usr/lib/avr/include $(wildcard /usr/lib/gcc/avr/*/include)
MISSING := $(foreach name,$(USED),$(if $(call library,$(name))$(wildcard $(addsuffix /$(name).h,$(PLACES))),,$(name)))
ifneq ($(strip $(MISSING)),)
$(error library $(strip $(MISSING)) is not found: put its folder into libraries/ here, or say make LIBRARIES=FOLDER)
endif

FLAGS = -mmcu=$(MCU) -DF_CPU=$(CLOCK)UL @defines@ -Os -gdwarf-4 -Wall -ffunction-sections -fdata-sections -MMD   -I. -I$(CORE_SOURCES) -I$(CORE)/variants/$(VARIANT) $(addprefix -I,$(LIBS) $(wildcard $(addsuffix utility,$(LIBS))))
CXXFLAGS = $(FLAGS) -std=gnu++11 -fno-exceptions -fno-threadsafe-statics -fpermissive -DDECIMAL_DIG=__DECIMAL_DIG__
SOURCES := $(OWN) $(foreach d,$(LIBS),$(wildcard $(d)*.cpp $(d)*.c $(d)*.S $(d)utility/*.cpp $(d)utility/*.c)) $(wildcard $(CORE_SOURCES)*.cpp $(CORE_SOURCES)*.c $(CORE_SOURCES)*.S)
object = build/$(subst /,_,$(1)).o
OBJECTS := $(foreach s,$(SOURCES),$(call object,$(s))) $(if $(SKETCHES),build/program.o)

$(PROGRAM).elf: $(OBJECTS)
	avr-gcc -mmcu=$(MCU) -Os -gdwarf-4 -Wl,--gc-sections -o $@ $^ -lm

define compile
$(call object,$(1)): $(1) Makefile
	@mkdir -p build
	$(if $(filter %.cpp,$(1)),avr-g++ $$(CXXFLAGS),avr-gcc $$(FLAGS)$(if $(filter %.c,$(1)), -std=gnu11)) -c -o $$@ $$<
endef
$(foreach s,$(SOURCES),$(eval $(call compile,$(s))))

# All .ino files become one program; its functions are declared before the first of them.
define DECLARE
FNR == 1 { files[++count] = FILENAME }
{ text[FILENAME, FNR] = $$0; last[FILENAME] = FNR }
END {
  printf "%cinclude <@header@>\n", 35
  shape = "^[A-Za-z_][A-Za-z0-9_ *&<>:]*[ *&]+[A-Za-z_][A-Za-z0-9_]* *[(][^;={}]*[)] *([{].*)?$$"
  for (f = 1; f <= count; ++f)
    for (n = 1; n <= last[files[f]]; ++n) {
      line = text[files[f], n]
      if (line !~ shape || line ~ /^(if|else|for|while|switch|return|struct|class|typedef|using|namespace|template|extern|ISR)/) continue
      if (line !~ /[{]/ && text[files[f], n + 1] !~ /^[{]/) continue
      if (!first) { first = n; within = f }
      sub(/ *[{].*$$/, "", line)
      declared = declared line ";\n"
    }
  for (f = 1; f <= count; ++f) {
    printf "%cline 1 \"%s\"\n", 35, files[f]
    for (n = 1; n <= last[files[f]]; ++n) {
      if (f == within && n == first) printf "%s%cline %d \"%s\"\n", declared, 35, n, files[f]
      print text[files[f], n]
    }
  }
}
endef
export DECLARE
build/program.cpp: $(SKETCHES) Makefile
	@mkdir -p build
	awk "$$DECLARE" $(SKETCHES) > $@
build/program.o: build/program.cpp
	avr-g++ $(CXXFLAGS) -c -o $@ $<

clean:
	rm -rf build $(PROGRAM).elf
-include $(OBJECTS:.o=.d)
)";

}  // namespace

namespace {

// The first word of the package's name.
std::string frameworkName() { return std::string(kFrameworkPackage.substr(0, kFrameworkPackage.find('-'))); }

}  // namespace

std::string frameworkCore() { return fmt::format("/usr/share/{0}/hardware/{0}/avr", frameworkName()); }

std::string frameworkHeader()
{
    std::string name = frameworkName();
    name.front() = static_cast<char>(std::toupper(static_cast<unsigned char>(name.front())));
    return name + ".h";
}

std::string frameworkDefines()
{
    std::string name = frameworkName();
    std::transform(name.begin(), name.end(), name.begin(), [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
    return fmt::format("-D{0}=10819 -D{0}_ARCH_AVR", name);
}

bool isFrameworkInstalled()
{
    std::error_code ec;
    return std::filesystem::exists(frameworkCore() + "/cores", ec);
}

bool fitsFramework(const PartKind& board) { return board.chip != nullptr && (board.chip->id == "atmega328p" || std::string_view(board.chip->id) == "atmega2560"); }

std::string frameworkMakefile(const std::string& slug, const PartKind& board)
{
    std::string out(kFrameworkMakefile);
    const auto put = [&](const std::string& name, const std::string& value) {
        for (std::size_t at = 0; (at = out.find(name, at)) != std::string::npos; at += value.size())
            out.replace(at, name.size(), value);
    };
    put("@core@", frameworkCore());
    put("@header@", frameworkHeader());
    put("@defines@", frameworkDefines());
    put("@program@", slug);
    put("@mcu@", std::string(board.chip->id));
    put("@clock@", std::to_string(board.clockHz));
    put("@variant@", std::string_view(board.chip->id) == "atmega2560" ? "mega" : "standard");
    return out;
}

namespace {

constexpr std::pair<SourceLanguage, std::string_view> kFolders[] = {{SourceLanguage::c, "c"}, {SourceLanguage::cpp, "cpp"}, {SourceLanguage::assembler, "assembler"}};

std::filesystem::path skeletonFolder(SourceLanguage language, const PartKind& board)
{
    for (const auto& [known, name] : kFolders)
        if (known == language)
            return std::filesystem::path(board.folder) / "skeleton" / name;
    return {};
}

// A board's own, out of its folder.
Skeleton ownSkeleton(const std::filesystem::path& folder, const std::string& name, const std::string& slug)
{
    Skeleton out;
    std::error_code ec;
    std::vector<std::filesystem::path> files;
    for (const auto& entry : std::filesystem::directory_iterator(folder, ec))
        if (entry.is_regular_file(ec))
            files.push_back(entry.path());
    std::sort(files.begin(), files.end());
    for (const std::filesystem::path& file : files) {
        std::ifstream in(file, std::ios::binary);
        std::string text(std::istreambuf_iterator<char>(in), {});
        for (const auto& [mark, value] : {std::pair<std::string_view, const std::string&>{"@name@", name}, {"@program@", slug}})
            for (std::size_t at = 0; (at = text.find(mark, at)) != std::string::npos; at += value.size())
                text.replace(at, mark.size(), value);
        const std::string called = file.filename().string();
        if (called == "Makefile") {
            // "tide-clock.hex: main.asm Makefile".
            if (const std::size_t target = text.find("\n" + slug + "."); target != std::string::npos)
                out.image = text.substr(target + 1 + slug.size(), text.find(':', target) - target - 1 - slug.size());
            out.makefile = std::move(text);
        } else if (file.stem() == "main") {
            out.sourceName = called;
            out.source = std::move(text);
        } else {
            out.others.emplace_back(called, std::move(text));
        }
    }
    return out;
}

}  // namespace

std::vector<SourceLanguage> languagesOf(const PartKind& board)
{
    std::vector<SourceLanguage> out;
    std::error_code ec;
    for (const auto& [language, name] : kFolders)
        if (!board.folder.empty() && std::filesystem::is_directory(skeletonFolder(language, board), ec))
            out.push_back(language);
    if (!out.empty() || board.chip == nullptr || !board.chip->behaviour->buildsStraight || board.bridge.empty())
        return out;
    out = {SourceLanguage::c, SourceLanguage::cpp, SourceLanguage::assembler};
    if (fitsFramework(board))
        out.push_back(SourceLanguage::framework);
    return out;
}

Skeleton skeletonOf(SourceLanguage language, const std::string& name, const std::string& slug, const PartKind& board)
{
    std::error_code ec;
    if (const std::filesystem::path own = skeletonFolder(language, board); !board.folder.empty() && !own.empty() && std::filesystem::is_directory(own, ec))
        return ownSkeleton(own, name, slug);
    switch (language) {
    case SourceLanguage::cpp: return {"main.cpp", sourceInCpp(name, board), makefileFor(slug, board, "main.cpp", "avr-g++", " -std=gnu++17")};
    case SourceLanguage::assembler: return {"main.S", sourceInAssembler(name, board), makefileFor(slug, board, "main.S", "avr-gcc", "")};
    case SourceLanguage::framework: return {slug + ".ino", sourceForFramework(name, board), frameworkMakefile(slug, board)};
    case SourceLanguage::c: break;
    }
    return {"main.c", sourceInC(name, board), makefileFor(slug, board, "main.c", "avr-gcc", " -std=gnu11")};
}

}  // namespace bramix::bench
