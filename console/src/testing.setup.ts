// Outside a browser, addresses have nothing that they are relative to.
const Absolute = globalThis.Request;
globalThis.Request = class extends Absolute {
  constructor(input: RequestInfo | URL, init?: RequestInit) {
    super(typeof input === "string" ? new URL(input, "http://localhost") : input, init);
  }
};
