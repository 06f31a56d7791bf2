`timescale 1us/10ns
module lamp_receiver(input line, output reg seen);
  initial seen = 0;
  always @(negedge line) seen <= ~seen;
endmodule
module bench;
  reg clock = 0, reset = 1, line = 1'bz;
  wire pulled = line === 1'bz ? 1'b1 : line;
  wire [3:0] bus;
  reg [3:0] count = 0;
  assign bus = count;
  real supply = 3.3;
  lamp_receiver inside(pulled, );
  integer i;
  reg [31:0] frame;
  task mark(input real us); begin line = 0; #(us); end endtask
  task space(input real us); begin line = 1'bz; #(us); end endtask
  task nec(input [7:0] address, input [7:0] command);
    begin
      frame = {~command, command, ~address, address};
      mark(9012); space(4480);
      for (i = 0; i < 32; i = i + 1) begin mark(571); space(frame[i] ? 1676 : 551); end
      mark(571); space(40000); count = count + 1;
    end
  endtask
  always #200 clock = ~clock;
  initial begin
    $dumpfile("shutter.vcd"); $dumpvars;
    #1000 reset = 0;
    space(30000); nec(8'h5B, 8'h16); space(120000); nec(8'h5B, 8'h40); space(60000); $finish;
  end
endmodule
