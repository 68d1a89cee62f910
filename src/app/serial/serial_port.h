// A UART of the bench as a program outside sees it: a pseudo-terminal with a name that stays, or a TCP port on the loopback interface.
// Tested by tests/app/serial_test.cpp with a program that opens it.
#pragma once

#include <memory>

#include <QObject>
#include <QTimer>

#include "app/shell/editor.h"
#include "link/endpoint.h"

namespace bramix::app {

class SerialPort : public QObject {
    Q_OBJECT

public:
    SerialPort(Editor& editor, std::string uart, QObject* parent = nullptr);
    ~SerialPort() override;

    // `where` as link::openEndpoint takes it. An error is said in the window.
    bool open(const std::string& where);
    void close();
    [[nodiscard]] bool isOpen() const { return endpoint_ != nullptr; }
    // What a program opens: the lasting link to a pseudo-terminal, or address and port; empty while closed.
    [[nodiscard]] QString name() const { return name_; }
    // What the chip has sent.
    void write(std::string_view bytes);

private:
    Editor& editor_;
    const std::string uart_;
    std::unique_ptr<link::Endpoint> endpoint_;
    QString name_, link_;
    QTimer look_;
};

}  // namespace bramix::app
