// The host's end of a UART: a place to which bytes go and from which they may come. None of them ever blocks: what a slow
// reader does not take is dropped there, and the simulation goes on.
// Tested by tests/link/endpoint_test.cpp.
#pragma once

#include <memory>
#include <string>
#include <string_view>

#include "kernel/result.h"

namespace bramix::link {

class Endpoint {
public:
    virtual ~Endpoint() = default;
    virtual void write(std::string_view bytes) = 0;
    // What has come in since the last call, kMostAtOnce bytes of it and a little more at most: the rest waits for the next one. Empty at the end of the input too.
    static constexpr std::size_t kMostAtOnce = 1U << 16U;
    virtual std::string read() { return {}; }
    virtual void flush() {}
    // A file descriptor that becomes readable when there is something to read, or -1.
    [[nodiscard]] virtual int descriptor() const { return -1; }
    // What a person connects to: the path of a pseudo-terminal, or address and port.
    [[nodiscard]] virtual std::string name() const { return {}; }
};

// `where` as on the command line: "-" standard input and output, "pty", "tcp:PORT" (on the loopback interface, one program at a time; 0: any port that is free), "none", or a
// file's path (output only).
[[nodiscard]] kernel::Result<std::unique_ptr<Endpoint>> openEndpoint(const std::string& where);

}  // namespace bramix::link
