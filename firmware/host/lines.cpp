// The core behind standard input and output: "put D..." fills the ring and prints its lines, "hello" prints the answer,
// "order TEXT" feeds an order and prints what was understood. The tests in tests/firmware drive it.
#include <cstdio>
#include <cstdlib>
#include <iostream>
#include <sstream>
#include <string>

#include "../tern_recorder/core.h"

int main() {
  tern::Ring ring;
  tern::Orders orders;
  uint8_t number = 0;
  std::string line;
  char text[512];
  while (std::getline(std::cin, line)) {
    std::istringstream words(line);
    std::string verb;
    words >> verb;
    if (verb == "put") {
      long value;
      while (words >> value) ring.put(static_cast<tern::Duration>(value));
      tern::Duration d[tern::kLineDurations];
      uint8_t count = 0;
      for (;;) {
        const bool more = ring.take(&d[count]);
        count = static_cast<uint8_t>(count + more);
        if (count == tern::kLineDurations || (!more && count)) {
          std::fwrite(text, 1, tern::write_line(d, count, number++, text, sizeof text), stdout);
          count = 0;
        }
        if (!more) break;
      }
      if (ring.overflowed()) std::puts("# overflowed");
    } else if (verb == "hello") {
      std::fwrite(text, 1, tern::write_hello("host", 4, text, sizeof text), stdout);
    } else if (verb == "order") {
      tern::Order order = tern::kNothing;
      const std::string rest = line.size() > 6 ? line.substr(6) : "";
      for (const char c : rest + "\n") order = orders.feed(c);
      std::printf("%d", order);
      if (order == tern::kSend || order == tern::kGo) {
        std::printf(" %u", static_cast<unsigned>(orders.carrier_hz()));
        tern::Player player(orders.press(), orders.times());
        uint32_t us;
        bool mark;
        while (player.next(&us, &mark)) std::printf(" %ld", mark ? static_cast<long>(us) : -static_cast<long>(us));
      }
      std::puts("");
    }
  }
}
