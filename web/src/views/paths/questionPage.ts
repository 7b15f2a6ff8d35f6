/** Where it is asked whether it was the network, between two ends as far as they are known. */
export const questionPage = (whence: string, whither: string) =>
  `/paths?${new URLSearchParams({ list: "question", whence, whither })}`;
