import { useSearchParams } from "react-router";

/** Filter of a page, kept in the query of its address, so that it can be linked and survives a reload. */
export function useSearchFilter(): { get: (name: string) => string; set: (name: string, value: string) => void } {
  const [params, setParams] = useSearchParams();
  return {
    get: (name) => params.get(name) ?? "",
    set: (name, value) =>
      setParams(
        (before) => {
          if (value === "") {
            before.delete(name);
          } else {
            before.set(name, value);
          }
          return before;
        },
        { replace: true },
      ),
  };
}
