import { useSyncExternalStore } from "react";

const KEPT = "lumtar-sound";
const changed = new Set<() => void>();
let isOn = localStorage.getItem(KEPT) === "on";

/** Whether new alarms are heard; this browser remembers it. Off unless somebody wants it. */
export function setSound(wanted: boolean) {
  isOn = wanted;
  localStorage.setItem(KEPT, wanted ? "on" : "off");
  for (const tell of changed) tell();
  if (wanted) play(4);
}

const subscribe = (tell: () => void) => {
  changed.add(tell);
  return () => changed.delete(tell);
};

export const useSound = () => useSyncExternalStore(subscribe, () => isOn);

/** Two short tones, the higher the worse; nothing while it is off. */
export function play(severity: number) {
  if (!isOn || typeof AudioContext === "undefined") return;
  const context = new AudioContext();
  const volume = context.createGain();
  volume.gain.value = 0.12;
  volume.connect(context.destination);
  [0, 0.22].forEach((begin, place) => {
    const tone = context.createOscillator();
    tone.frequency.value = 330 + 90 * severity + 110 * place;
    tone.connect(volume);
    tone.start(context.currentTime + begin);
    tone.stop(context.currentTime + begin + 0.16);
  });
  setTimeout(() => void context.close(), 1000);
}
