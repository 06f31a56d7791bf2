// A board that sends, behind standard input and output: it takes orders as the sketch does and says them by a simulated
// clock. What its pin does is appended to the file named first, a press a line, in signed nanoseconds; with a second word,
// "heard", it is also told as a receiver beside it would, in lines of durations.
#include <unistd.h>

#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <string>
#include <vector>

#include "../tern_recorder/core.h"

namespace {

// An 8-bit board at 16 MHz: its clock shows steps of 4 us, a look at it costs 3 us, a pin 4 us more.
struct SimulatedBoard {
  uint64_t ns = 0, edge = 0;
  bool high = false;
  bool halted = false;
  std::vector<long> pin;

  uint32_t micros() {
    ns += 3000;
    return static_cast<uint32_t>(ns / 4000 * 4);
  }
  void set(bool level) {
    ns += 4000;
    if (level == high) return;
    pin.push_back((high ? 1 : -1) * static_cast<long>(ns - edge));
    edge = ns;
    high = level;
  }
  void mark() { set(true); }
  void half_cycle(bool level) { set(level); }
  void space() { set(false); }
  void said(uint16_t frames) {
    std::printf("# said %u\n", static_cast<unsigned>(frames));
    std::fflush(stdout);
  }
  bool stopped() { return halted; }
};

}  // namespace

int main(int argc, char **argv) {
  tern::Orders orders;
  uint8_t number = 0;
  char text[512];
  char c;
  const bool by_timer = std::getenv("SOFT") == nullptr;
  while (read(0, &c, 1) == 1) {
    const tern::Order order = orders.feed(c);
    if (order == tern::kNothing) continue;
    std::fwrite(text, 1, orders.answer(order, text, sizeof text), stdout);
    if (order == tern::kHello) std::fwrite(text, 1, tern::write_hello("host board", 4, text, sizeof text), stdout);
    if (order == tern::kStop) std::puts("# stopped 0");
    if (order == tern::kSend || order == tern::kGo) {
      SimulatedBoard board;
      tern::say(board, orders.press(), order == tern::kGo ? orders.times() : 1, orders.carrier_hz(), by_timer);
      if (argc > 1) {
        std::FILE *file = std::fopen(argv[1], "a");
        for (const long d : board.pin) std::fprintf(file, "%ld ", d);
        std::fputs("\n", file);
        std::fclose(file);
      }
      std::puts("# sent");
      if (argc > 2 && !std::strcmp(argv[2], "heard")) {
        tern::Duration d[tern::kLineDurations];
        uint8_t count = 0;
        board.pin.push_back(-300000000L);
        for (size_t i = 1; i < board.pin.size(); ++i) {  // the first is what was before the first mark
          d[count++] = static_cast<tern::Duration>(board.pin[i] / 1000);
          if (count == tern::kLineDurations || i + 1 == board.pin.size()) {
            std::fwrite(text, 1, tern::write_line(d, count, number++, text, sizeof text), stdout);
            count = 0;
          }
        }
      }
    }
    std::fflush(stdout);
  }
}
