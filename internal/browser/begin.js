// What runs before anything of a page does: time begins at the same moment and goes on with the page's
// own, chance is always the same, and nothing asks, prints or opens.
(() => {
  const began = 1767225600000, now = performance.now.bind(performance), first = now();
  const passed = () => now() - first;
  // How long scripts take to begin differs by some milliseconds: clocks are coarse, so that nobody sees it.
  let asked = 0;
  performance.now = () => Math.floor(passed() / 50) * 50 + ++asked / 1000;
  const Real = Date;
  const at = () => began + Math.floor(passed() / 100) * 100;
  const Fixed = function (...args) {
    if (!new.target) return new Real(at()).toString();
    return args.length ? Reflect.construct(Real, args, new.target) : Reflect.construct(Real, [at()], new.target);
  };
  Fixed.prototype = Real.prototype;
  Object.setPrototypeOf(Fixed, Real);
  Fixed.now = at;
  Real.prototype.constructor = Fixed;
  globalThis.Date = Fixed;

  // mulberry32, a generator of 32 bits that is in the public domain.
  let seed = 20260101;
  const chance = () => {
    seed = (seed + 0x6d2b79f5) | 0;
    let t = Math.imul(seed ^ (seed >>> 15), 1 | seed);
    t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t;
    return ((t ^ (t >>> 14)) >>> 0) / 4294967296;
  };
  Math.random = chance;
  if (globalThis.Crypto) {
    Crypto.prototype.getRandomValues = list => {
      const bytes = new Uint8Array(list.buffer, list.byteOffset, list.byteLength);
      for (let i = 0; i < bytes.length; i++) bytes[i] = chance() * 256;
      return list;
    };
    Crypto.prototype.randomUUID = () => "10000000-1000-4000-8000-100000000000".replace(/[018]/g, c => (c ^ chance() * 16 >> c / 4).toString(16));
  }

  // Frames come by the page's time, and not as fast as the machine draws.
  let frame = 0, calls = new Map(), id = 0;
  const draw = () => {
    const due = calls;
    calls = new Map();
    frame += 16;
    for (const call of due.values()) call(frame);
  };
  globalThis.requestAnimationFrame = call => {
    if (!calls.size) setTimeout(draw, 16);
    calls.set(++id, call);
    return id;
  };
  globalThis.cancelAnimationFrame = one => { calls.delete(one); };

  for (const name of ["print", "alert"]) globalThis[name] = () => {};
  globalThis.open = () => null;
  globalThis.confirm = () => false;
  globalThis.prompt = () => null;
  if (globalThis.ServiceWorkerContainer) ServiceWorkerContainer.prototype.register = () => new Promise(() => {});
  try { sessionStorage.clear(); name = ""; } catch { /* a frame that may not */ }

  let last = 0;
  const watch = () => new MutationObserver(() => { last = passed(); })
    .observe(document, { subtree: true, childList: true, attributes: true, characterData: true });
  watch();
  document.addEventListener("DOMContentLoaded", () => {
    for (const image of document.querySelectorAll("img[loading=lazy], iframe[loading=lazy]")) image.loading = "eager";
  });

  // settle is called once the page has had its time: it hides what is to be hidden, ends animations, and
  // says whether the page still changed.
  Object.defineProperty(globalThis, "__orillaSettle", { value: hidden => {
    const restless = passed() - last < 400;
    const style = document.createElement("style");
    style.textContent = "* { caret-color: transparent !important; scroll-behavior: auto !important }" +
      hidden.map(one => " " + one + " { visibility: hidden !important }").join("");
    document.documentElement.append(style);
    for (const one of document.getAnimations()) {
      try {
        if (one.effect && one.effect.getComputedTiming().endTime === Infinity) { one.pause(); one.currentTime = 0; } else one.finish();
      } catch { /* one that cannot end */ }
    }
    for (const media of document.querySelectorAll("video, audio")) { media.pause(); try { media.currentTime = 0; } catch { /* not there yet */ } }
    scrollTo(0, 0);
    return { restless, at: location.href, fonts: document.fonts.status === "loaded" };
  } });
})();
