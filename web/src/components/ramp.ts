/** The one ramp of load, and of errors: five steps of one hue, each with its words. */
export const LOAD_STEPS = ["below 10 %", "10 – 30 %", "30 – 55 %", "55 – 80 %", "80 % and more"];
export const ERROR_STEPS = ["none", "below 1 ppm", "1 – 10 ppm", "10 – 100 ppm", "100 ppm and more"];

/** The step of the load ramp for a percentage. */
export const loadStep = (load: number) => (load < 10 ? 0 : load < 30 ? 1 : load < 55 ? 2 : load < 80 ? 3 : 4);

/** The step for errors and discards per million packets. */
export const errorStep = (ppm: number) => (ppm <= 0 ? 0 : ppm < 1 ? 1 : ppm < 10 ? 2 : ppm < 100 ? 3 : 4);
